import { VueQueryPlugin } from "@tanstack/vue-query";
import { createApp } from "vue";
import App from "./App.vue";
import { queryClient } from "./api/client";
import { focus } from "./lib/focus";
import { router } from "./router";
import "./styles.css";

createApp(App).directive("focus", focus).use(router).use(VueQueryPlugin, { queryClient }).mount("#app");

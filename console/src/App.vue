<script setup lang="ts">
import { useQueryClient } from "@tanstack/vue-query";
import { watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { ApiError } from "./api/client";
import { useTheme } from "./composables/useTheme";
import AppFrame from "./ui/AppFrame.vue";

useTheme();
const route = useRoute();
const router = useRouter();
const queries = useQueryClient();

// Whoever is no longer signed in is taken to the sign-in, and back to where they were.
queries.getQueryCache().subscribe((event) => {
  const error = event.query.state.error;
  if (error instanceof ApiError && error.code === "enrol-first" && route.path !== "/account") {
    void router.push("/account");
  } else if (error instanceof ApiError && error.code === "sign-in-first" && !route.meta.open) {
    queries.clear();
    void router.push({ path: "/sign-in", query: { to: route.fullPath } });
  }
});
watch(
  () => route.path,
  () => document.getElementById("content")?.focus({ preventScroll: true }),
);
</script>

<template>
  <AppFrame v-if="!route.meta.open && !route.meta.bare && route.matched.length">
    <RouterView :key="route.path" />
  </AppFrame>
  <RouterView v-else />
</template>

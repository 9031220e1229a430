<script setup lang="ts">
import { ref } from "vue";
import { useQueryClient } from "@tanstack/vue-query";
import { useRoute, useRouter } from "vue-router";
import { ApiError, api, unwrap } from "../api/client";
import BrandMark from "../ui/BrandMark.vue";

const route = useRoute();
const router = useRouter();
const queries = useQueryClient();
const person = ref("");
const password = ref("");
const code = ref("");
const busy = ref(false);
const problem = ref("");

async function signIn() {
  busy.value = true;
  problem.value = "";
  try {
    const body = {
      person: person.value.trim(),
      password: password.value,
      code: code.value.replace(/\s/g, ""),
      token: false,
    };
    const me = unwrap(await api.POST("/api/v1/sign-in", { body }));
    queries.clear();
    queries.setQueryData(["me"], me);
    const to = typeof route.query.to === "string" && /^\/(?!\/)/.test(route.query.to) ? route.query.to : null;
    const reads = me.roles.some((r) => r === "administrator" || r === "auditor");
    await router.push(to ?? (reads ? "/" : "/sessions"));
  } catch (e) {
    problem.value = e instanceof ApiError ? e.message : "The service cannot be reached. Try again in a moment.";
    code.value = "";
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <main class="mx-auto flex min-h-screen max-w-sm flex-col justify-center px-5 pb-24">
    <div class="mb-6 flex items-center gap-3">
      <BrandMark class="h-9 w-9" />
      <h1>Sign in to Aerie</h1>
    </div>
    <form class="sheet flex flex-col gap-4 p-5" @submit.prevent="signIn">
      <label class="flex flex-col gap-1">
        <span class="font-medium">Name</span>
        <input
          v-model="person"
          class="field"
          name="person"
          autocomplete="username"
          autocapitalize="none"
          required
          autofocus
        />
      </label>
      <label class="flex flex-col gap-1">
        <span class="font-medium">Password</span>
        <input
          v-model="password"
          class="field"
          name="password"
          type="password"
          autocomplete="current-password"
          required
        />
      </label>
      <label class="flex flex-col gap-1">
        <span class="font-medium">Code</span>
        <input
          v-model="code"
          class="field mono tracking-widest"
          name="code"
          inputmode="numeric"
          autocomplete="one-time-code"
          maxlength="9"
          required
          aria-describedby="code-help"
        />
        <span id="code-help" class="text-[0.85rem] text-soft">Six digits from your authenticator app</span>
      </label>
      <p v-if="problem" class="border-l-4 border-l-wait bg-waitbg px-3 py-2" role="alert">{{ problem }}</p>
      <button class="button py-2!" data-kind="main" :disabled="busy">{{ busy ? "Signing in…" : "Sign in" }}</button>
    </form>
  </main>
</template>

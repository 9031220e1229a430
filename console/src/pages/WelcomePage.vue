<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { useRouter } from "vue-router";
import { api, unwrap } from "../api/client";
import OpenPage from "../ui/OpenPage.vue";
import ProblemNote from "../ui/ProblemNote.vue";

const router = useRouter();
const queries = useQueryClient();
// Behind the hash, which no browser sends to a server; taken out of the address at once.
const secret = ref(location.hash.slice(1));
history.replaceState(history.state, "", location.pathname);
const person = ref("");
const fullName = ref("");
const password = ref("");
const facts = useQuery({
  queryKey: ["invitation"],
  retry: false,
  staleTime: Infinity,
  queryFn: async () => unwrap(await api.POST("/api/v1/invitations/open", { body: { secret: secret.value } })),
});
const take = useMutation({
  mutationFn: async () => {
    const body = {
      secret: secret.value,
      password: password.value,
      person: person.value || null,
      full_name: fullName.value || null,
      token: false,
    };
    return unwrap(await api.POST("/api/v1/invitations/take", { body }));
  },
  onSuccess: (me) => {
    queries.clear();
    queries.setQueryData(["me"], me);
    void router.push(me.stage === "proving" ? "/sign-in" : "/account");
  },
});
</script>

<template>
  <OpenPage :heading="facts.data.value?.full_name ? `Welcome, ${facts.data.value.full_name}` : 'Welcome to Aerie'">
    <template v-if="facts.data.value">
      <p v-if="facts.data.value.person">
        {{ facts.data.value.by }} invites you. Set a password; you sign in as
        <b class="mono">{{ facts.data.value.person }}</b>.
      </p>
      <p v-else>Nobody is here yet: you are the first administrator. Choose your name and a password.</p>
      <form class="flex flex-col gap-4" @submit.prevent="take.mutate()">
        <template v-if="!facts.data.value.person">
          <label class="flex flex-col gap-1"
            ><span class="font-medium">Name for signing in</span
            ><input
              v-model="person"
              class="field mono"
              v-focus
              name="person"
              autocomplete="username"
              autocapitalize="none"
              required
              maxlength="64"
              pattern="[a-z0-9][a-z0-9._\-]*"
          /></label>
          <label class="flex flex-col gap-1"
            ><span class="font-medium">Name as people write it</span
            ><input v-model="fullName" class="field" name="full-name" autocomplete="name" maxlength="120"
          /></label>
        </template>
        <label class="flex flex-col gap-1"
          ><span class="font-medium">Password</span
          ><input
            v-model="password"
            class="field"
            type="password"
            name="password"
            autocomplete="new-password"
            required
            aria-describedby="password-help"
          /><span id="password-help" class="text-[0.85rem] text-soft"
            >At least {{ facts.data.value.password_length }} characters: a few words that do not belong together</span
          ></label
        >
        <ProblemNote :text="take.error.value?.message" />
        <button class="button py-2!" data-kind="main" :disabled="take.isPending.value">Go on</button>
      </form>
    </template>
    <p v-else-if="facts.error.value" role="alert">{{ facts.error.value.message }}</p>
    <p v-else class="text-soft" role="status">Opening the invitation…</p>
  </OpenPage>
</template>

<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { api, unwrap, type Account } from "../../api/client";
import { proven } from "../../composables/useProve";
import { ago } from "../../lib/time";
import ProblemNote from "../../ui/ProblemNote.vue";

/** The password of one's own account. */
defineProps<{ account: Account }>();
const queries = useQueryClient();
const open = ref(false);
const current = ref("");
const next = ref("");
const change = useMutation({
  mutationFn: () =>
    proven(async () =>
      unwrap(await api.PUT("/api/v1/me/password", { body: { current: current.value || null, new: next.value } })),
    ),
  onSuccess: () => {
    open.value = false;
    current.value = next.value = "";
    void queries.invalidateQueries({ queryKey: ["account"] });
  },
});
</script>

<template>
  <section class="sheet px-4 py-3.5" aria-labelledby="password">
    <h2 id="password">Password</h2>
    <div class="flex flex-wrap items-baseline gap-x-4">
      <p class="text-soft">
        {{
          account.password
            ? account.password_set
              ? `Set ${ago(account.password_set)}.`
              : "A password is set."
            : "No password is set: you sign in with a passkey."
        }}
      </p>
      <button v-if="!open" class="button ml-auto" data-testid="change-password" @click="open = true">
        {{ account.password ? "Change it" : "Set one" }}
      </button>
    </div>
    <form v-if="open" class="mt-3 flex max-w-sm flex-col gap-3" @submit.prevent="change.mutate()">
      <label v-if="account.password"
        ><span class="label">Password now</span
        ><input v-model="current" class="field w-full" type="password" autocomplete="current-password" name="current"
      /></label>
      <label
        ><span class="label">New password</span
        ><input
          v-model="next"
          class="field w-full"
          type="password"
          autocomplete="new-password"
          name="new"
          required
          aria-describedby="password-help"
      /></label>
      <span id="password-help" class="text-[0.85rem] text-soft"
        >A few words that do not belong together. Everywhere else you will be signed out.</span
      >
      <span class="flex gap-3">
        <button class="button" data-kind="main" :disabled="change.isPending.value">Set the password</button>
        <button type="button" class="button" @click="open = false">Cancel</button>
      </span>
    </form>
    <ProblemNote class="mt-3" :text="change.error.value?.message" />
  </section>
</template>

<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap, type Account } from "../../api/client";
import { proven } from "../../composables/useProve";
import { authenticatorProblem, createCredential, hasPasskeys } from "../../lib/webauthn";
import { ago } from "../../lib/time";
import ProblemNote from "../../ui/ProblemNote.vue";

/** Passkeys and security keys of one's own account. */
const props = defineProps<{ account: Account }>();
const queries = useQueryClient();
const label = ref("");
const adding = ref<"passkey" | "security-key" | null>(null);
const all = computed(() => props.account.detail.passkeys);
const refresh = () => Promise.all(["account", "me"].map((k) => queries.invalidateQueries({ queryKey: [k] })));

const enrol = useMutation({
  mutationFn: (kind: "passkey" | "security-key") =>
    proven(async () => {
      const question = unwrap(await api.POST("/api/v1/me/passkeys/question", { body: { kind } }));
      const credential = await createCredential(question.options);
      const body = { challenge: question.challenge, credential, label: label.value };
      return unwrap(await api.POST("/api/v1/me/passkeys", { body }));
    }),
  onSuccess: (me) => {
    queries.setQueryData(["me"], me);
    adding.value = null;
    label.value = "";
    void refresh();
  },
});
const remove = useMutation({
  mutationFn: (id: string) =>
    proven(async () => unwrap(await api.DELETE("/api/v1/me/passkeys/{id}", { params: { path: { id } } }))),
  onSuccess: refresh,
});
const problem = computed(() => {
  const error = enrol.error.value ?? remove.error.value;
  return error ? (authenticatorProblem(error) ?? error.message) : "";
});
</script>

<template>
  <section class="sheet px-4 py-3.5" aria-labelledby="passkeys">
    <h2 id="passkeys">Passkeys and security keys</h2>
    <p class="mb-2 text-[0.92rem] text-soft">
      A passkey signs you in without a password and cannot be read off or tricked out of you.
    </p>
    <ul v-if="all.length" class="mb-3 divide-y divide-line border-y border-line">
      <li v-for="k in all" :key="k.id" class="flex flex-wrap items-baseline gap-x-4 py-1.5" data-testid="passkey-row">
        <span class="font-semibold">{{ k.label }}</span>
        <span class="text-soft"
          >{{ k.kind === "passkey" ? "passkey" : "security key" }}{{ k.bound ? ", stays on its device" : "" }}</span
        >
        <span class="ml-auto text-soft">{{
          k.last_used ? `used ${ago(k.last_used)} from ${k.last_from}` : "never used"
        }}</span>
        <button class="button" :aria-label="`Remove ${k.label}`" @click="remove.mutate(k.id)">Remove</button>
      </li>
    </ul>
    <p v-if="!hasPasskeys()" class="text-soft">
      Passkeys do not work at this address: open the console by its name, over an encrypted connection.
    </p>
    <form v-else-if="adding" class="flex flex-wrap items-end gap-3" @submit.prevent="enrol.mutate(adding)">
      <label class="min-w-56"
        ><span class="label">What to call it</span
        ><input
          v-model="label"
          class="field w-full"
          name="label"
          required
          maxlength="60"
          placeholder="this laptop"
          v-focus
      /></label>
      <button class="button" data-kind="main" :disabled="enrol.isPending.value">
        {{ enrol.isPending.value ? "Waiting for the authenticator…" : "Enrol" }}
      </button>
      <button type="button" class="button" @click="adding = null">Cancel</button>
    </form>
    <div v-else class="flex gap-3">
      <button
        class="button"
        :data-kind="all.length ? undefined : 'main'"
        data-testid="add-passkey"
        @click="adding = 'passkey'"
      >
        Add a passkey
      </button>
      <button class="button" data-testid="add-security-key" @click="adding = 'security-key'">Add a security key</button>
    </div>
    <ProblemNote class="mt-3" :text="problem" />
  </section>
</template>

<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, reactive } from "vue";
import { api, unwrap, type Account } from "../../api/client";
import { proven } from "../../composables/useProve";
import { inPath } from "../../lib/keys";
import KeyTable from "./KeyTable.vue";
import ProblemNote from "../../ui/ProblemNote.vue";

/** SSH keys of one's own account, registered with a signature that proves that one has them. */
defineProps<{ account: Account }>();
const queries = useQueryClient();
const form = reactive({ public: "", label: "", expires: "", signature: "" });
const question = useMutation({ mutationFn: async () => unwrap(await api.POST("/api/v1/me/keys/question")) });
const refresh = () => queries.invalidateQueries({ queryKey: ["account"] });
const register = useMutation({
  mutationFn: () =>
    proven(async () =>
      unwrap(await api.POST("/api/v1/me/keys", { body: { ...form, text: question.data.value!.text } })),
    ),
  onSuccess: () => {
    Object.assign(form, { public: "", label: "", expires: "", signature: "" });
    question.reset();
    void refresh();
  },
});
const remove = useMutation({
  mutationFn: (print: string) =>
    proven(async () => {
      const params = { path: { fingerprint: inPath(print) } };
      return unwrap(await api.DELETE("/api/v1/me/keys/{fingerprint}", { params }));
    }),
  onSuccess: refresh,
});
const error = computed(() => register.error.value ?? remove.error.value ?? question.error.value ?? null);
</script>

<template>
  <section class="sheet px-4 py-3.5" aria-labelledby="ssh-keys">
    <h2 id="ssh-keys" class="mb-2">SSH keys</h2>
    <KeyTable :keys="account.detail.ssh_keys" removable @remove="remove.mutate($event)" />
    <div v-if="!question.data.value" class="mt-3 flex flex-wrap items-baseline gap-x-4">
      <button class="button" data-testid="add-key" @click="question.mutate()">Register a key</button>
      <span class="text-[0.92rem] text-soft">or, in a terminal: <code>aerie keys add ~/.ssh/id_ed25519</code></span>
    </div>
    <form v-else class="mt-3 flex max-w-3xl flex-col gap-3" @submit.prevent="register.mutate()">
      <label
        ><span class="label">Public key</span
        ><textarea
          v-model="form.public"
          class="field mono w-full"
          rows="2"
          name="public"
          required
          placeholder="ssh-ed25519 AAAA…"
        />
      </label>
      <div class="grid grid-cols-2 gap-3">
        <label
          ><span class="label">What to call it</span
          ><input v-model="form.label" class="field w-full" name="key-label" required maxlength="60"
        /></label>
        <label
          ><span class="label">Last day, if any</span
          ><input v-model="form.expires" class="field w-full" type="date" name="expires"
        /></label>
      </div>
      <div>
        <span class="label">Prove that you have it: run this, and paste what it prints</span>
        <code class="block break-all rounded bg-paper p-2" data-testid="sign-command">{{
          question.data.value.command
        }}</code>
      </div>
      <label
        ><span class="label">Signature</span
        ><textarea
          v-model="form.signature"
          class="field mono w-full"
          rows="4"
          name="signature"
          required
          placeholder="-----BEGIN SSH SIGNATURE-----"
        />
      </label>
      <span class="flex gap-3">
        <button class="button" data-kind="main" :disabled="register.isPending.value">Register</button>
        <button type="button" class="button" @click="question.reset()">Cancel</button>
      </span>
    </form>
    <ProblemNote class="mt-3" :text="error?.message" />
  </section>
</template>

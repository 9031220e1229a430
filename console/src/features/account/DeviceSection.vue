<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, reactive, ref } from "vue";
import { api, unwrap, type Account } from "../../api/client";
import { proven } from "../../composables/useProve";
import { ago } from "../../lib/time";
import ProblemNote from "../../ui/ProblemNote.vue";

/** Where one is signed in, and one's API tokens. */
defineProps<{ account: Account }>();
const SCOPES = ["read", "rules", "people", "sessions", "audit", "pins", "service"];
const queries = useQueryClient();
const refresh = () => queries.invalidateQueries({ queryKey: ["account"] });
const form = reactive({ name: "", scopes: ["read"], days: 90, key: "" });
const open = ref(false);
const end = useMutation({
  mutationFn: async (id: string) => unwrap(await api.DELETE("/api/v1/me/devices/{id}", { params: { path: { id } } })),
  onSuccess: refresh,
});
const endOthers = useMutation({
  mutationFn: async () => unwrap(await api.POST("/api/v1/me/sign-out-elsewhere")),
  onSuccess: refresh,
});
const make = useMutation({
  mutationFn: () =>
    proven(async () => unwrap(await api.POST("/api/v1/me/tokens", { body: { ...form, key: form.key || null } }))),
  onSuccess: () => {
    open.value = false;
    void refresh();
  },
});
const error = computed(() => end.error.value ?? endOthers.error.value ?? make.error.value ?? null);
</script>

<template>
  <section class="sheet px-4 py-3.5" aria-labelledby="devices">
    <div class="mb-2 flex flex-wrap items-baseline gap-x-4">
      <h2 id="devices">Where you are signed in</h2>
      <button
        v-if="account.detail.devices.length > 1"
        class="button ml-auto"
        data-testid="end-others"
        @click="endOthers.mutate()"
      >
        Sign out everywhere else
      </button>
    </div>
    <ul class="divide-y divide-line border-y border-line">
      <li
        v-for="d in account.detail.devices"
        :key="d.id"
        class="flex flex-wrap items-baseline gap-x-4 py-1.5"
        data-testid="device-row"
      >
        <span class="font-semibold">{{ d.name || d.kind }}</span>
        <span v-if="d.this">this one</span>
        <span class="text-soft">with {{ d.factors.join(", ") }}</span>
        <span class="ml-auto text-soft">{{ ago(d.last_used) }} from {{ d.last_from }}</span>
        <button v-if="!d.this" class="button" :aria-label="`Sign out ${d.name}`" @click="end.mutate(d.id)">
          Sign out
        </button>
      </li>
    </ul>
    <div class="mb-2 mt-5 flex flex-wrap items-baseline gap-x-4">
      <h2>API tokens</h2>
      <button v-if="!open" class="button ml-auto" data-testid="add-token" @click="open = true">Make a token</button>
    </div>
    <ul v-if="account.detail.tokens.length" class="divide-y divide-line border-y border-line">
      <li v-for="t in account.detail.tokens" :key="t.id" class="flex flex-wrap items-baseline gap-x-4 py-1.5">
        <span class="font-semibold">{{ t.name }}</span>
        <span class="text-soft">{{ t.scopes.length ? t.scopes.join(", ") : "no scopes, no access" }}</span>
        <span v-if="t.key" class="text-soft">signed requests only</span>
        <span class="ml-auto text-soft">used {{ ago(t.last_used) }}, until {{ t.expires.slice(0, 10) }}</span>
        <button class="button" :aria-label="`Withdraw ${t.name}`" @click="end.mutate(t.id)">Withdraw</button>
      </li>
    </ul>
    <p v-else-if="!open" class="text-soft">
      Programs that use the API get a token of their own, for what they do alone.
    </p>
    <form v-if="open" class="mt-3 flex max-w-3xl flex-col gap-3" @submit.prevent="make.mutate()">
      <div class="grid grid-cols-2 gap-3">
        <label
          ><span class="label">What to call it</span
          ><input v-model="form.name" class="field w-full" name="token-name" required maxlength="60"
        /></label>
        <label
          ><span class="label">Days that it is good</span
          ><input v-model.number="form.days" class="field w-full" type="number" min="1" max="3650"
        /></label>
      </div>
      <fieldset>
        <legend class="label">What it may be used for</legend>
        <label v-for="s in SCOPES" :key="s" class="mr-4 inline-flex items-center gap-1.5"
          ><input v-model="form.scopes" type="checkbox" :value="s" />{{ s }}</label
        >
      </fieldset>
      <label
        ><span class="label">Ed25519 public key that signs each request, if any</span
        ><input v-model="form.key" class="field mono w-full" name="token-key" placeholder="ssh-ed25519 AAAA…"
      /></label>
      <span class="flex gap-3">
        <button class="button" data-kind="main" :disabled="make.isPending.value">Make it</button>
        <button type="button" class="button" @click="open = false">Cancel</button>
      </span>
    </form>
    <p v-if="make.data.value" class="mt-3" role="status">
      <code class="break-all" data-testid="new-token">{{ make.data.value.secret }}</code>
      <span class="block text-[0.92rem] text-soft">Copy it now: it is not shown again.</span>
    </p>
    <ProblemNote class="mt-3" :text="error?.message" />
  </section>
</template>

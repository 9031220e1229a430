<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { reactive } from "vue";
import { useRouter } from "vue-router";
import { api, unwrap } from "../../api/client";
import { proven } from "../../composables/useProve";
import { words } from "../../lib/words";
import ProblemNote from "../../ui/ProblemNote.vue";

/** Registers a machine, and goes to its page. */
const emit = defineEmits<{ close: [] }>();
const router = useRouter();
const queries = useQueryClient();
const form = reactive({ name: "", via: "agent", address: "", site: "", owner: "", labels: "", accounts: "", note: "" });
const add = useMutation({
  mutationFn: () =>
    proven(async () => {
      const { name, labels, accounts, ...rest } = form;
      const about = { ...rest, labels: words(labels), accounts: words(accounts) };
      return unwrap(await api.POST("/api/v1/machines", { body: { name: name.trim(), about } }));
    }),
  onSuccess: (made) => {
    void queries.invalidateQueries({ queryKey: ["machines"] });
    void router.push(`/machines/${made.name}`);
  },
});
</script>

<template>
  <form class="sheet grid max-w-5xl grid-cols-2 gap-3 px-4 py-3.5 lg:grid-cols-3" @submit.prevent="add.mutate()">
    <label
      ><span class="label">Name</span
      ><input
        v-model="form.name"
        class="field mono w-full"
        name="machine-name"
        required
        maxlength="64"
        pattern="[a-z0-9][a-z0-9._\-]*"
        v-focus
    /></label>
    <label
      ><span class="label">How it is reached</span
      ><select v-model="form.via" class="field w-full" name="machine-via">
        <option value="agent">Through an agent on it</option>
        <option value="relay">Through a relay of its site</option>
        <option value="direct">Directly, over the network</option>
      </select></label
    >
    <label
      ><span class="label">SSH server, as host:port</span
      ><input
        v-model="form.address"
        class="field mono w-full"
        name="machine-address"
        :placeholder="form.via === 'agent' ? '127.0.0.1:22' : '10.20.0.7:22'"
    /></label>
    <label><span class="label">Site</span><input v-model="form.site" class="field w-full" name="machine-site" /></label>
    <label
      ><span class="label">Who looks after it</span
      ><input v-model="form.owner" class="field w-full" name="machine-owner"
    /></label>
    <label
      ><span class="label">Accounts that may be used</span
      ><input v-model="form.accounts" class="field mono w-full" name="machine-accounts" placeholder="operator"
    /></label>
    <label
      ><span class="label">Labels</span
      ><input v-model="form.labels" class="field mono w-full" name="machine-labels" placeholder="instrument tier=1"
    /></label>
    <label class="col-span-2"
      ><span class="label">What it is for</span><input v-model="form.note" class="field w-full" name="machine-note"
    /></label>
    <span class="col-span-full flex gap-3">
      <button class="button" data-kind="main" :disabled="add.isPending.value">Register</button>
      <button type="button" class="button" @click="emit('close')">Cancel</button>
    </span>
    <ProblemNote class="col-span-full" :text="add.error.value?.message" />
  </form>
</template>

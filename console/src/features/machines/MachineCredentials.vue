<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { api, unwrap, type Credential, type MachineDetail } from "../../api/client";
import { proven } from "../../composables/useProve";
import { ago } from "../../lib/time";
import ProblemNote from "../../ui/ProblemNote.vue";

/** Credentials that are kept for a machine, and the accounts and keys that were found on it. */
const props = defineProps<{ detail: MachineDetail; manages: boolean }>();
const queries = useQueryClient();
const refresh = () => queries.invalidateQueries({ queryKey: ["machines"] });
const rotate = useMutation({
  mutationFn: (c: Credential) =>
    proven(async () =>
      unwrap(
        await api.POST("/api/v1/vault/{machine}/{account}/rotate", {
          params: { path: { machine: c.machine, account: c.account } },
        }),
      ),
    ),
  onSuccess: refresh,
});
const look = useMutation({
  mutationFn: async () =>
    unwrap(
      await api.POST("/api/v1/machines/{name}/discover", { params: { path: { name: props.detail.machine.name } } }),
    ),
  onSuccess: refresh,
});
</script>

<template>
  <section class="sheet px-4 py-3.5" aria-labelledby="credentials">
    <div class="flex flex-wrap items-baseline gap-3">
      <h2 id="credentials">Accounts and credentials</h2>
      <button v-if="manages" class="button ml-auto" :disabled="look.isPending.value" @click="look.mutate()">
        {{ look.isPending.value ? "Looking …" : "Look what is there" }}
      </button>
    </div>
    <ul class="mt-2 divide-y divide-line border-y border-line">
      <li v-for="c in detail.credentials" :key="c.account" class="flex flex-wrap items-baseline gap-x-4 py-1.5">
        <span>{{ c.sentence }}</span>
        <span class="text-soft">Changed {{ ago(c.changed) }}{{ c.used ? `, used ${ago(c.used)}` : "" }}.</span>
        <button
          v-if="manages"
          class="button ml-auto"
          :disabled="rotate.isPending.value"
          :aria-label="`Change the ${c.kind} of ${c.account}`"
          @click="rotate.mutate(c)"
        >
          {{ rotate.isPending.value ? "Changing …" : "Change it now" }}
        </button>
      </li>
      <li v-if="!detail.credentials.length" class="py-1.5 text-soft">
        Nothing is kept: Aerie signs in with certificates that live for two minutes.
      </li>
    </ul>
    <p v-if="rotate.data.value" class="mt-2" role="status">{{ rotate.data.value.sentence }}</p>
    <ProblemNote :text="rotate.error.value?.message ?? look.error.value?.message" />
    <table v-if="detail.found.length" class="mt-3 w-full">
      <thead>
        <tr class="border-b border-line">
          <th class="py-1">Found on it</th>
          <th class="px-3">Shell</th>
          <th>Keys that let somebody in</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="a in detail.found.filter((f) => f.login)"
          :key="a.account"
          class="border-b border-line align-baseline last:border-0"
        >
          <td class="py-1">
            <span class="mono">{{ a.account }}</span> <span v-if="!a.listed" class="text-soft">not used by Aerie</span>
          </td>
          <td class="mono px-3 text-soft">{{ a.shell }}</td>
          <td>
            <div v-for="k in a.keys" :key="k.fingerprint" class="[overflow-wrap:anywhere]">
              <span class="mono">{{ k.fingerprint }}</span>
              <RouterLink v-if="k.owner && k.owner !== 'vault'" :to="`/people/${k.owner}`" class="ml-2">{{
                k.owner
              }}</RouterLink>
              <span v-else-if="k.owner" class="ml-2 text-soft">kept by Aerie</span>
              <strong v-else class="ml-2 text-viol">▲ nobody’s</strong>
            </div>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

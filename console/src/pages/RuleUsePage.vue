<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import StopButton from "../features/live/StopButton.vue";
import PolicyTabs from "../features/policy/PolicyTabs.vue";
import { useBeginDraft, usePolicy } from "../features/policy/usePolicy";
import { dayAndClock } from "../lib/time";
import StateNote from "../ui/StateNote.vue";

const { administers } = useMe();
const { zone } = useNow();
const policy = usePolicy();
const days = ref(90);
const use = useQuery({
  queryKey: ["policy", "use", days],
  queryFn: async () => unwrap(await api.GET("/api/v1/policy/use", { params: { query: { days: days.value } } })),
});
const never = computed(() => use.data.value?.filter((u) => u.sessions === 0).length ?? 0);
const wide = computed(() => use.data.value?.filter((u) => u.proposal).length ?? 0);
const begin = useBeginDraft();

async function narrow(name: string, fields: unknown) {
  const text = policy.data.value?.text ?? "";
  const done = unwrap(
    await api.POST("/api/v1/policy/edit", { body: { text, name, effect: null, fields: fields as never } }),
  );
  begin.mutate({ title: `Narrow ${name} to what was used`, text: done.text });
}
</script>

<template>
  <h1>
    <template v-if="use.data.value"
      >{{ never === 1 ? "1 rule was" : `${never} rules were` }} never used in {{ days }} days; {{ wide }}
      {{ wide === 1 ? "gives" : "give" }} more than was used.</template
    ><template v-else>Use of the rules</template>
  </h1>
  <PolicyTabs here="use" />
  <label class="mb-3 flex items-center gap-2"
    ><span class="text-soft">Look back</span>
    <select v-model="days" class="field">
      <option :value="30">30 days</option>
      <option :value="90">90 days</option>
      <option :value="366">a year</option>
    </select>
  </label>
  <StateNote
    v-if="!use.data.value?.length"
    :loading="use.isPending.value"
    :error="use.error.value"
    empty="No rule allows anything yet."
    @retry="use.refetch()"
  />
  <ul v-else class="sheet divide-y divide-line">
    <li
      v-for="u in use.data.value"
      :key="u.name"
      class="grid gap-x-6 px-4 py-3 lg:grid-cols-[1fr_minmax(0,34rem)]"
      data-testid="rule-use"
    >
      <div>
        <p :class="{ 'font-semibold': u.sessions === 0 }">{{ u.sentence }}</p>
        <p v-if="u.last" class="text-[0.9rem] text-soft">Last used {{ dayAndClock(u.last, zone) }}</p>
        <p v-if="administers && u.sessions" class="mt-1.5 flex gap-3">
          <StopButton :which="{ rule: u.name }" name="its sessions" />
        </p>
      </div>
      <div v-if="u.proposal">
        <pre class="mono whitespace-pre-wrap rounded border border-line bg-paper px-3 py-2 text-[12.5px]">{{
          u.proposal
        }}</pre>
        <button v-if="administers" class="button mt-1.5" @click="narrow(u.name, u.narrower)">Draft it so narrow</button>
      </div>
    </li>
  </ul>
</template>

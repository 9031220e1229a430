<script setup lang="ts">
import { useInfiniteQuery, useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, unwrap } from "../api/client";
import { useFilter } from "../composables/useFilter";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import FindingRow from "../features/findings/FindingRow.vue";
import FindingTabs from "../features/findings/FindingTabs.vue";
import { STATES, builtIn, capital, kindName } from "../features/findings/kinds";
import ChoiceBar from "../ui/ChoiceBar.vue";
import MoreButton from "../ui/MoreButton.vue";
import StateNote from "../ui/StateNote.vue";

/** What broke the rules, or deserves attention; what is done about each is on its page. */
const { data: now, zone } = useNow();
const { data: me, may } = useMe();
const { filter, text, narrow, narrowed } = useFilter("q", "kind", "state", "importance", "owner");
const SHOWN = [
  ["unsettled", "To be done"],
  ["settled", "Settled"],
  ["all", "All"],
] as const;
const shown = computed(() => filter.value.state || "unsettled");
const detections = useQuery({
  queryKey: ["detections"],
  queryFn: async () => unwrap(await api.GET("/api/v1/detections")),
  enabled: computed(() => may("read-everything")),
});
const kinds = computed(() => {
  const all = [...builtIn, ...(detections.data.value?.detections.map((d) => d.name) ?? [])];
  return all.map((k) => [k, kindName(k)] as const).sort((a, b) => a[1].localeCompare(b[1]));
});
const list = useInfiniteQuery({
  queryKey: ["findings", "list", filter],
  initialPageParam: undefined as string | undefined,
  queryFn: async ({ pageParam }) => {
    const f = filter.value;
    const query = {
      kind: f.kind || undefined,
      state: shown.value === "all" ? undefined : shown.value,
      importance: f.importance || undefined,
      owner: f.owner || undefined,
      q: f.q || undefined,
      after: pageParam,
      limit: 50,
    };
    return unwrap(await api.GET("/api/v1/findings", { params: { query } }));
  },
  getNextPageParam: (page) => page.next ?? undefined,
});
const findings = computed(() => list.data.value?.pages.flatMap((p) => p.items) ?? []);
const critical = computed(() => findings.value.filter((f) => f.importance === "critical" && !f.settled).length);
</script>

<template>
  <h1>
    <template v-if="now?.findings">
      There {{ now.findings === 1 ? "is 1 open finding above low" : `are ${now.findings} open findings above low`
      }}<template v-if="critical && !narrowed"
        >, <span class="text-viol">{{ critical }} of them critical</span></template
      >.
    </template>
    <template v-else>Findings</template>
  </h1>
  <FindingTabs here="findings" />
  <form class="mb-3 flex flex-wrap items-center gap-3" role="search" @submit.prevent="narrow({ q: text })">
    <ChoiceBar
      legend="State"
      name="state"
      :choices="SHOWN"
      :chosen="SHOWN.some(([s]) => s === shown) ? shown : ''"
      @choose="narrow({ state: $event === 'unsettled' ? '' : $event })"
    />
    <label>
      <span class="sr-only">Kind</span>
      <select
        class="field max-w-56"
        name="kind"
        :value="filter.kind"
        @change="narrow({ kind: ($event.target as HTMLSelectElement).value })"
      >
        <option value="">Every kind</option>
        <option v-for="[value, name] in kinds" :key="value" :value="value">{{ name }}</option>
      </select>
    </label>
    <label>
      <span class="sr-only">Importance</span>
      <select
        class="field"
        name="importance"
        :value="filter.importance"
        @change="narrow({ importance: ($event.target as HTMLSelectElement).value })"
      >
        <option value="">Every importance</option>
        <option v-for="i in ['medium', 'high']" :key="i" :value="i">{{ capital(i) }} and more</option>
        <option value="critical">Critical</option>
      </select>
    </label>
    <label class="flex items-center gap-2">
      <input
        type="checkbox"
        name="mine"
        :checked="!!me && filter.owner === me.person"
        @change="narrow({ owner: ($event.target as HTMLInputElement).checked ? (me?.person ?? '') : '' })"
      />
      Mine
    </label>
    <label>
      <span class="sr-only">Text</span>
      <input
        v-model="text"
        type="search"
        class="field w-60"
        name="q"
        placeholder="Person, machine, address, line"
        @search="narrow({ q: text })"
      />
    </label>
    <button
      v-if="narrowed"
      type="button"
      class="button"
      @click="narrow({ q: '', kind: '', state: '', importance: '', owner: '' })"
    >
      Clear
    </button>
  </form>
  <ul v-if="findings.length" class="sheet divide-y divide-line">
    <FindingRow v-for="f in findings" :key="f.id" :finding="f" :zone="zone" />
  </ul>
  <StateNote
    v-else
    :loading="list.isPending.value"
    :error="list.error.value"
    :empty="
      narrowed
        ? `No finding is like that${STATES[shown] ? ` and ${STATES[shown]?.toLowerCase()}` : ''}.`
        : 'Nothing is to be done. Hold a machine\'s log against the rules with `aerie audit scan FILE`.'
    "
    @retry="list.refetch()"
  />
  <MoreButton
    v-if="list.hasNextPage.value"
    :loading="list.isFetchingNextPage.value"
    :shown="findings.length"
    noun="findings"
    @more="list.fetchNextPage()"
  />
</template>

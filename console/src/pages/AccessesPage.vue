<script setup lang="ts">
import { useInfiniteQuery, useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, unwrap } from "../api/client";
import { useFilter } from "../composables/useFilter";
import { useNow } from "../composables/useNow";
import AccessTable from "../features/accesses/AccessTable.vue";
import SpanChart from "../features/accesses/SpanChart.vue";
import TotalTable from "../features/accesses/TotalTable.vue";
import ChoiceBar from "../ui/ChoiceBar.vue";
import MoreButton from "../ui/MoreButton.vue";
import StateNote from "../ui/StateNote.vue";

/** Who got into which machine, when and from where: Aerie's own sessions, and what the machines' logs show beside them. */
const { zone } = useNow();
const { filter, text, narrow, narrowed } = useFilter(
  "q",
  "days",
  "from",
  "until",
  "person",
  "machine",
  "through",
  "by",
);
const PERIODS = [
  ["1", "The last day"],
  ["7", "7 days"],
  ["30", "30 days"],
  ["92", "3 months"],
  ["366", "A year"],
  ["all", "Everything"],
  ["own", "From … until …"],
] as const;
const BY = [
  ["person", "People"],
  ["machine", "Machines"],
  ["source", "Addresses"],
  ["account", "Accounts"],
  ["rule", "Rules"],
  ["system", "Operating systems"],
] as const;
type By = (typeof BY)[number][0];
const by = computed<By>(() => (BY.find(([b]) => b === filter.value.by)?.[0] ?? "person") as By);
const days = computed(() => filter.value.days || "30");
const opened = Date.now();

/** A day is one of the reader's calendar; what is asked for are instants. */
const dayOf = (text: string, plus = 0) => {
  const at = new Date(`${text}T00:00:00`);
  at.setDate(at.getDate() + plus);
  return Number.isNaN(at.getTime()) ? undefined : at.toISOString();
};
const query = computed(() => {
  const f = filter.value;
  const back = Number(days.value);
  const since = back ? new Date(opened - back * 86_400_000).toISOString() : undefined;
  return {
    from: days.value === "own" ? dayOf(f.from) : since,
    until: days.value === "own" ? dayOf(f.until, 1) : undefined,
    person: f.person || undefined,
    machine: f.machine || undefined,
    through: f.through || undefined,
    q: f.q || undefined,
  };
});
const report = useQuery({
  queryKey: ["accesses", "report", query, by],
  queryFn: async () =>
    unwrap(await api.GET("/api/v1/access-report", { params: { query: { ...query.value, by: by.value } } })),
  placeholderData: (before) => before,
});
const list = useInfiniteQuery({
  queryKey: ["accesses", "list", query],
  initialPageParam: undefined as string | undefined,
  queryFn: async ({ pageParam }) =>
    unwrap(await api.GET("/api/v1/accesses", { params: { query: { ...query.value, after: pageParam, limit: 50 } } })),
  getNextPageParam: (page) => page.next ?? undefined,
});
const accesses = computed(() => list.data.value?.pages.flatMap((p) => p.items) ?? []);
const csv = computed(() => {
  const given = Object.entries(query.value).filter((e): e is [string, string] => !!e[1]);
  return `/api/v1/accesses.csv?${new URLSearchParams(given)}`;
});
const pick = (name: string) => narrow({ [by.value]: name, by: by.value === "person" ? "machine" : "person" });
</script>

<template>
  <h1 data-testid="sentence">{{ report.data.value?.sentence ?? "Who was where" }}</h1>
  <p v-if="filter.person || filter.machine" class="mt-1 text-soft">
    Of <template v-if="filter.person">{{ filter.person }}</template><template v-if="filter.person && filter.machine">
      on </template
    ><template v-if="filter.machine">{{ filter.machine }}</template> alone.
  </p>
  <form
    class="mb-4 mt-4 flex flex-wrap items-center gap-3 print:hidden"
    role="search"
    @submit.prevent="narrow({ q: text })"
  >
    <label>
      <span class="sr-only">Period</span>
      <select
        class="field"
        name="days"
        :value="days"
        @change="narrow({ days: ($event.target as HTMLSelectElement).value })"
      >
        <option v-for="[value, name] in PERIODS" :key="value" :value="value">{{ name }}</option>
      </select>
    </label>
    <template v-if="days === 'own'">
      <label
        ><span class="sr-only">From</span
        ><input
          type="date"
          class="field"
          :value="filter.from"
          @change="narrow({ from: ($event.target as HTMLInputElement).value })"
      /></label>
      <label
        ><span class="sr-only">Until</span
        ><input
          type="date"
          class="field"
          :value="filter.until"
          @change="narrow({ until: ($event.target as HTMLInputElement).value })"
      /></label>
    </template>
    <label>
      <span class="sr-only">Person, machine, account or address</span>
      <input
        v-model="text"
        type="search"
        class="field w-72"
        name="q"
        placeholder="Person, machine, account, address"
        @search="narrow({ q: text })"
      />
    </label>
    <label class="flex items-center gap-2">
      <input
        type="checkbox"
        name="around"
        :checked="filter.through === 'around'"
        @change="narrow({ through: ($event.target as HTMLInputElement).checked ? 'around' : '' })"
      />
      Around Aerie alone
    </label>
    <button
      v-if="narrowed"
      type="button"
      class="button"
      @click="narrow({ q: '', days: '', from: '', until: '', person: '', machine: '', through: '', by: '' })"
    >
      Clear
    </button>
    <a class="button ml-auto no-underline!" :href="csv" download>As CSV</a>
  </form>
  <StateNote
    v-if="!report.data.value"
    :loading="report.isPending.value"
    :error="report.error.value"
    @retry="report.refetch()"
  />
  <template v-else-if="report.data.value.count">
    <SpanChart :spans="report.data.value.spans" :zone="report.data.value.zone" />
    <div class="mb-2 mt-6 flex flex-wrap items-center gap-3">
      <h2>Totals</h2>
      <ChoiceBar legend="Totals of" name="by" :choices="BY" :chosen="by" @choose="narrow({ by: $event })" />
    </div>
    <TotalTable
      :totals="report.data.value.totals"
      :heading="BY.find(([b]) => b === by)![1]"
      :zone="zone"
      :pickable="by === 'person' || by === 'machine'"
      @pick="pick"
    />
    <h2 class="mb-2 mt-6">Each access</h2>
    <AccessTable v-if="accesses.length" :accesses="accesses" :zone="zone" />
    <StateNote
      v-else
      :loading="list.isPending.value"
      :error="list.error.value"
      empty="No access matches."
      @retry="list.refetch()"
    />
    <MoreButton
      v-if="list.hasNextPage.value"
      :loading="list.isFetchingNextPage.value"
      :shown="accesses.length"
      noun="accesses"
      @more="list.fetchNextPage()"
    />
  </template>
  <p v-else class="text-soft">
    {{
      narrowed
        ? "Choose a longer period, or search for less."
        : "When somebody connects, or a machine's log is audited, it is listed here."
    }}
  </p>
</template>

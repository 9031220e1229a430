<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, unwrap } from "../api/client";
import { useFilter } from "../composables/useFilter";
import CoverageTable from "../features/findings/CoverageTable.vue";
import FindingTabs from "../features/findings/FindingTabs.vue";
import ChoiceBar from "../ui/ChoiceBar.vue";
import StateNote from "../ui/StateNote.vue";

/** For which machines and days there is evidence at all. */
const { filter, narrow } = useFilter("days");
const DAYS = [
  ["14", "14 days"],
  ["30", "30 days"],
  ["92", "3 months"],
  ["366", "A year"],
] as const;
const days = computed(() => DAYS.find(([d]) => d === filter.value.days)?.[0] ?? "30");
const coverage = useQuery({
  queryKey: ["coverage", days],
  queryFn: async () => unwrap(await api.GET("/api/v1/coverage", { params: { query: { days: Number(days.value) } } })),
  placeholderData: (before) => before,
});
</script>

<template>
  <h1 data-testid="sentence">{{ coverage.data.value?.sentence ?? "Coverage" }}</h1>
  <FindingTabs here="coverage" />
  <div class="mb-3">
    <ChoiceBar legend="Period" name="days" :choices="DAYS" :chosen="days" @choose="narrow({ days: $event })" />
  </div>
  <CoverageTable v-if="coverage.data.value?.machines.length" :coverage="coverage.data.value" />
  <StateNote
    v-else
    :loading="coverage.isPending.value"
    :error="coverage.error.value"
    empty="There are no machines, and no log was read."
    @retry="coverage.refetch()"
  />
</template>

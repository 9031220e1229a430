<script setup lang="ts">
import type { Check } from "../../api/client";

/** The checks of a machine, in order, with what was seen and how to mend it. */
defineProps<{ results: readonly Check[]; running: boolean }>();
const MARKS: Record<string, string> = { pass: "✓", warn: "!", fail: "✗", skip: "·" };
const TONES: Record<string, string> = {
  pass: "text-accent",
  warn: "text-wait font-semibold",
  fail: "text-viol font-semibold",
  skip: "text-soft",
};
</script>

<template>
  <ol class="divide-y divide-line border-y border-line" :aria-busy="running">
    <li
      v-for="r in results"
      :key="r.check"
      class="grid grid-cols-[3.75rem_1fr] gap-x-2 py-1.5 sm:grid-cols-[3.75rem_15rem_1fr]"
      data-testid="check"
      :data-check="r.check"
      :data-outcome="r.outcome"
    >
      <span :class="TONES[r.outcome]"
        ><span aria-hidden="true">{{ MARKS[r.outcome] }}</span> {{ r.outcome }}</span
      >
      <span>{{ r.title }}</span>
      <span class="col-start-2 text-soft [overflow-wrap:anywhere] sm:col-start-3">{{ r.seen }}</span>
      <span v-if="r.mend" class="col-start-2 border-l-4 border-l-wait pl-2 sm:col-start-3">{{ r.mend }}</span>
    </li>
    <li v-if="running" class="py-1.5 text-soft" role="status">Looking …</li>
  </ol>
</template>

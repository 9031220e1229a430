<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { watch } from "vue";
import { api, unwrap, type AgainQuery } from "../../api/client";
import { dayAndClock } from "../../lib/time";
import ProblemNote from "../../ui/ProblemNote.vue";
import { kindName } from "./kinds";

/** Judges the last 30 days again by other rules or detections, and lists what differs. Findings stay as they are. */
const props = defineProps<{ by: Partial<AgainQuery>; label: string; zone: string }>();
const NOTHING = { from: null, until: null, version: null, rules: null, detections: null };
const again = useMutation({
  mutationFn: async () => unwrap(await api.POST("/api/v1/audit/again", { body: { ...NOTHING, ...props.by } })),
});
watch(
  () => props.by,
  () => again.reset(),
  { deep: true },
);
</script>

<template>
  <div>
    <button type="button" class="button" :disabled="again.isPending.value" data-testid="again" @click="again.mutate()">
      {{ again.isPending.value ? "Judging …" : label }}
    </button>
    <ProblemNote class="mono mt-3 whitespace-pre-wrap text-[0.9rem]" :text="again.error.value?.message" />
    <section v-if="again.data.value" class="sheet mt-3" aria-label="Judged again" data-testid="judged">
      <p class="px-4 py-3" role="status">
        {{ again.data.value.sentence }} <span class="text-soft">No finding was changed.</span>
      </p>
      <ul
        v-if="again.data.value.differences.length"
        class="max-h-80 divide-y divide-line overflow-y-auto border-t border-line"
      >
        <li v-for="d in again.data.value.differences" :key="d.id" class="flex items-baseline gap-4 px-4 py-1.5">
          <span class="whitespace-nowrap text-soft">{{ dayAndClock(d.began, zone) }}</span>
          <RouterLink v-if="d.through" :to="`/sessions/${d.id}`">{{ d.sentence }}</RouterLink>
          <span v-else>{{ d.sentence }}</span>
        </li>
      </ul>
      <ul
        v-if="again.data.value.detections.length"
        class="max-h-80 divide-y divide-line overflow-y-auto border-t border-line"
      >
        <li v-for="(d, n) in again.data.value.detections" :key="n" class="flex items-baseline gap-4 px-4 py-1.5">
          <span class="w-24 shrink-0" :class="d.way === 'more' ? 'font-semibold' : 'text-soft'">{{
            d.way === "more" ? "found" : "not found"
          }}</span>
          <span
            >{{ d.sentence }} <span class="text-soft">{{ kindName(d.kind) }}, {{ d.importance }}</span></span
          >
        </li>
      </ul>
    </section>
  </div>
</template>

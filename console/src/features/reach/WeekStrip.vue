<script setup lang="ts">
import { computed } from "vue";
import { dayAndClock } from "../../lib/time";

/** A span of days as a strip: the hours of a permission on the ground of the days. */
const props = defineProps<{ from: number; to: number; spans: number[][]; zone: string }>();
const place = (t: number) => Math.min(100, Math.max(0, ((t - props.from) / (props.to - props.from)) * 100));
const days = computed(() => {
  const count = Math.round((props.to - props.from) / 86_400_000);
  return count > 31 ? [] : Array.from({ length: count - 1 }, (_, i) => ((i + 1) / count) * 100);
});
const told = computed(() => {
  const first = props.spans[0];
  if (!first) return "never";
  if (props.spans.length === 1 && first[0]! <= props.from && first[1]! >= props.to) return "the whole time";
  return props.spans
    .slice(0, 3)
    .map(
      (s) =>
        `${dayAndClock(new Date(s[0]!).toISOString(), props.zone)} to ${dayAndClock(new Date(s[1]!).toISOString(), props.zone)}`,
    )
    .join("; ");
});
</script>

<template>
  <div class="relative h-[15px] rounded-[2px] border border-line bg-paper" role="img" :aria-label="told" :title="told">
    <span
      v-for="(s, i) in spans"
      :key="i"
      class="absolute inset-y-0 bg-rec"
      :style="{ left: `${place(s[0]!)}%`, width: `${Math.max(0.4, place(s[1]!) - place(s[0]!))}%` }"
    ></span>
    <span v-for="d in days" :key="d" class="absolute inset-y-0 w-px bg-line" :style="{ left: `${d}%` }"></span>
  </div>
</template>

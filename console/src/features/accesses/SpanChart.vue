<script setup lang="ts">
import { computed } from "vue";
import { dayAndClock, longDay } from "../../lib/time";

/** Accesses over time as bars: all, and those around Aerie hatched in red. Days without any are shown as gaps. */
const props = defineProps<{ spans: { begin: string; count: number; around: number }[]; zone: string }>();
const HEIGHT = 96;
const DAY = 86_400_000;

const hourly = computed(() => {
  const at = props.spans.map((s) => Date.parse(s.begin));
  return at.some((t, i) => i > 0 && t - at[i - 1]! < DAY / 2);
});
const step = computed(() => (hourly.value ? 3_600_000 : DAY));
const bars = computed(() => {
  const first = Date.parse(props.spans[0]?.begin ?? "");
  const most = Math.max(1, ...props.spans.map((s) => s.count));
  return props.spans.map((s) => {
    const height = Math.max(2, (s.count / most) * HEIGHT);
    const hatched = s.around ? Math.max(2, (s.around / s.count) * height) : 0;
    const when = hourly.value ? dayAndClock(s.begin, props.zone) : longDay(s.begin, props.zone);
    return { at: Math.round((Date.parse(s.begin) - first) / step.value), height, hatched, when, ...s };
  });
});
const width = computed(() => Math.max(30, (bars.value.at(-1)?.at ?? 0) + 1));
const words = (b: { when: string; count: number; around: number }) =>
  `${b.when}: ${b.count} ${b.count === 1 ? "access" : "accesses"}${b.around ? `, ${b.around} around Aerie` : ""}`;
</script>

<template>
  <figure class="sheet px-4 pb-2 pt-4" data-testid="span-chart">
    <svg
      :viewBox="`0 0 ${width * 10} ${HEIGHT + 2}`"
      preserveAspectRatio="none"
      class="h-24 w-full"
      role="img"
      :aria-label="`Accesses per ${hourly ? 'hour' : 'day'}: ${bars.map(words).join('; ')}`"
    >
      <defs>
        <pattern id="around" width="4" height="4" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="4" height="4" class="fill-violbg" />
          <rect width="2" height="4" class="fill-viol" />
        </pattern>
      </defs>
      <g v-for="b in bars" :key="b.begin">
        <title>{{ words(b) }}</title>
        <rect :x="b.at * 10 + 1" :y="HEIGHT - b.height" width="8" :height="b.height" class="fill-live" />
        <rect
          v-if="b.around"
          :x="b.at * 10 + 1"
          :y="HEIGHT - b.hatched"
          width="8"
          :height="b.hatched"
          fill="url(#around)"
        />
      </g>
      <rect x="0" :y="HEIGHT" :width="width * 10" height="1" class="fill-line" />
    </svg>
    <figcaption class="mt-1 flex flex-wrap justify-between gap-x-4 text-[0.85rem] text-soft">
      <span>{{ bars[0]?.when }}</span>
      <span>at most {{ Math.max(...spans.map((s) => s.count)) }} {{ hourly ? "an hour" : "a day" }}</span>
      <span>
        <span class="mr-1 inline-block h-2.5 w-2.5 rounded-sm bg-live" aria-hidden="true" />through Aerie
        <span class="ml-3 mr-1 inline-block h-2.5 w-2.5 rounded-sm bg-viol" aria-hidden="true" />around Aerie
      </span>
      <span>{{ bars.at(-1)?.when }}</span>
    </figcaption>
  </figure>
</template>

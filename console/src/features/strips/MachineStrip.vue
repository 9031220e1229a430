<script setup lang="ts">
import type { Strips } from "../../api/client";
import { clock } from "../../lib/time";

/** The strip of one machine. A bar is drawn anew only when it changed: a day may have thousands. */
const props = defineProps<{
  machine: Strips["machines"][0];
  begin: number;
  length: number;
  now: number;
  today: boolean;
  zone: string;
}>();
const place = (at: number) => Math.min(100, Math.max(0, ((at - props.begin) / props.length) * 100));
const bar = (from: number, to: number) => ({ left: `${place(from)}%`, width: `${place(to) - place(from)}%` });
const told = (s: Strips["machines"][0]["sessions"][0]) =>
  `${s.person}, ${clock(s.begin, props.zone)} to ${s.end ? clock(s.end, props.zone) : "now (live)"}`;
</script>

<template>
  <div class="relative h-full grow border-b border-line" data-testid="strip">
    <span v-for="o in machine.open" :key="o[0]" class="absolute inset-y-0 bg-open" :style="bar(o[0]!, o[1]!)"></span>
    <RouterLink
      v-for="s in machine.sessions"
      :key="s.id"
      v-memo="[s.end, s.end ? 0 : now, begin]"
      :to="`/sessions/${s.id}`"
      :title="told(s)"
      :aria-label="`Session of ${told(s)}`"
      :data-live="s.end ? undefined : ''"
      class="absolute inset-y-[3px] min-w-[5px] overflow-hidden whitespace-nowrap rounded-[3px] bg-rec px-1.5 text-[0.78rem] leading-[18px] text-ink no-underline data-[live]:bg-live data-[live]:text-on-accent"
      :style="bar(s.begin, s.end ?? now)"
      >{{ place(s.end ?? now) - place(s.begin) > 7 ? s.person : "" }}</RouterLink
    >
    <RouterLink
      v-for="f in machine.findings"
      :key="f.id"
      :to="`/findings/${f.id}`"
      :title="f.sentence"
      :aria-label="`Finding: ${f.sentence}`"
      class="hatched absolute inset-y-[2px] w-[13px] -translate-x-1/2 rounded-[3px]"
      :style="{ left: `${place(f.at)}%` }"
    ></RouterLink>
    <span v-if="today" class="absolute inset-y-0 w-px bg-ink" :style="{ left: `${place(now)}%` }"></span>
  </div>
</template>

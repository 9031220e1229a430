<script setup lang="ts">
import { computed } from "vue";
import type { Strips } from "../../api/client";
import { clock } from "../../lib/time";

/** A day as strips, one for each machine: allowed hours as ground, sessions as bars, findings as hatched notches. */
const props = defineProps<{ day: Strips; now: number }>();

const begin = computed(() => Date.parse(props.day.begin));
const length = computed(() => Date.parse(props.day.end) - begin.value);
const place = (at: number) => Math.min(100, Math.max(0, ((at - begin.value) / length.value) * 100));
const bar = (from: number, to: number) => ({ left: `${place(from)}%`, width: `${place(to) - place(from)}%` });
const today = computed(() => props.now >= begin.value && props.now < begin.value + length.value);
const hours = computed(() => [0, 3, 6, 9, 12, 15, 18, 21].map((h) => begin.value + (h / 24) * length.value));
const told = (s: Strips["machines"][0]["sessions"][0]) =>
  `${s.person}, ${clock(s.begin, props.day.zone)} to ${s.end ? clock(s.end, props.day.zone) : "now (live)"}`;
</script>

<template>
  <div class="sheet overflow-x-auto px-3.5 py-2.5">
    <div class="min-w-[640px]">
      <div class="mono relative mb-1 ml-28 h-5 text-[0.8rem] text-soft" aria-hidden="true">
        <span v-for="h in hours" :key="h" class="absolute" :style="{ left: `${place(h)}%` }">{{
          clock(h, day.zone).slice(0, 2)
        }}</span>
        <span
          v-if="today"
          class="absolute -translate-x-1/2 bg-sheet px-1 font-bold text-ink"
          :style="{ left: `${Math.max(2, Math.min(98, place(now)))}%` }"
          >{{ clock(now, day.zone) }}</span
        >
      </div>
      <ul>
        <li v-for="m in day.machines" :key="m.machine" class="flex h-[25px] items-center" data-testid="strip">
          <RouterLink :to="{ path: '/sessions', query: { machine: m.machine } }" class="w-28 shrink-0 truncate">{{
            m.machine
          }}</RouterLink>
          <div class="relative h-full grow border-b border-line">
            <span v-for="o in m.open" :key="o[0]" class="absolute inset-y-0 bg-open" :style="bar(o[0]!, o[1]!)"></span>
            <RouterLink
              v-for="s in m.sessions"
              :key="s.id"
              v-memo="[s.end, s.end ? 0 : now, day.begin]"
              :to="`/sessions/${s.id}`"
              :title="told(s)"
              :aria-label="`Session of ${told(s)}`"
              :data-live="s.end ? undefined : ''"
              class="absolute inset-y-[3px] min-w-[5px] overflow-hidden whitespace-nowrap rounded-[3px] bg-rec px-1.5 text-[0.78rem] leading-[18px] text-ink no-underline data-[live]:bg-live data-[live]:text-on-accent"
              :style="bar(s.begin, s.end ?? now)"
              >{{ place(s.end ?? now) - place(s.begin) > 7 ? s.person : "" }}</RouterLink
            >
            <RouterLink
              v-for="f in m.findings"
              :key="f.id"
              :to="`/findings/${f.id}`"
              :title="f.sentence"
              :aria-label="`Finding: ${f.sentence}`"
              class="hatched absolute inset-y-[2px] w-[13px] -translate-x-1/2 rounded-[3px]"
              :style="{ left: `${place(f.at)}%` }"
            ></RouterLink>
            <span v-if="today" class="absolute inset-y-0 w-px bg-ink" :style="{ left: `${place(now)}%` }"></span>
          </div>
        </li>
      </ul>
    </div>
  </div>
</template>

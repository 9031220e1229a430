<script setup lang="ts">
import { computed } from "vue";
import type { Strips } from "../../api/client";
import { clock } from "../../lib/time";
import MachineStrip from "./MachineStrip.vue";

/** A day as strips, one for each machine: allowed hours as ground, sessions as bars, findings as hatched notches. */
const props = defineProps<{ day: Strips; now: number }>();

const begin = computed(() => Date.parse(props.day.begin));
const length = computed(() => Date.parse(props.day.end) - begin.value);
const place = (at: number) => Math.min(100, Math.max(0, ((at - begin.value) / length.value) * 100));
const today = computed(() => props.now >= begin.value && props.now < begin.value + length.value);
const hours = computed(() => [0, 3, 6, 9, 12, 15, 18, 21].map((h) => begin.value + (h / 24) * length.value));
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
          <MachineStrip :machine="m" :begin="begin" :length="length" :now="now" :today="today" :zone="day.zone" />
        </li>
      </ul>
    </div>
  </div>
</template>

<script setup lang="ts">
import type { Finding } from "../../api/client";
import { counter } from "../../lib/time";
import type { Playhead } from "./usePlayhead";

/** What one plays a recording with: begin and stop, speed, and the time line with activity and marks. */
const props = defineProps<{
  head: Playhead;
  length: number;
  /** Activity of equal parts of the recording, from 0 to 1. */
  bars: number[];
  findings: Finding[];
  /** Other moments worth going to. */
  marks?: { at: number; text: string }[];
}>();
const emit = defineEmits<{ hover: [at: number | undefined] }>();
const SPEEDS = [1, 2, 4, 8, 16];

function moment(event: PointerEvent) {
  const box = (event.currentTarget as HTMLElement).getBoundingClientRect();
  return ((event.clientX - box.left) / box.width) * props.length;
}
const left = (at: number) => ({ left: `${Math.min(100, (at / props.length) * 100)}%` });
</script>

<template>
  <div class="flex flex-wrap items-center gap-x-4 gap-y-2 bg-sheet px-3 py-2.5">
    <button class="button min-w-16" data-testid="play" @click="head.turn()">
      {{ head.playing.value ? "Pause" : "Play" }}
    </button>
    <label class="flex items-center gap-1.5 text-[0.9rem]">
      <span class="sr-only">Speed</span>
      <select
        :value="head.speed.value"
        @change="head.setSpeed(Number(($event.target as HTMLSelectElement).value))"
        class="field py-1!"
      >
        <option v-for="s in SPEEDS" :key="s" :value="s">{{ s }}×</option>
      </select>
    </label>
    <span class="mono tabular-nums" data-testid="position">{{ counter(head.at.value) }}</span>
    <div class="relative h-7 min-w-40 grow">
      <div
        class="h-full cursor-pointer"
        role="slider"
        tabindex="0"
        aria-label="Position in the recording"
        :aria-valuemin="0"
        :aria-valuemax="Math.round(length / 1000)"
        :aria-valuenow="Math.round(head.at.value / 1000)"
        :aria-valuetext="counter(head.at.value)"
        @pointerdown="head.seek(moment($event))"
        @pointermove="emit('hover', moment($event))"
        @pointerleave="emit('hover', undefined)"
      >
        <svg class="h-full w-full" :viewBox="`0 0 ${bars.length} 28`" preserveAspectRatio="none" aria-hidden="true">
          <rect
            v-for="(height, i) in bars"
            :key="i"
            :x="i"
            :y="26 - height * 22"
            width="0.86"
            :height="1.5 + height * 22"
            :class="i / bars.length <= head.at.value / length ? 'fill-live' : 'fill-rec'"
          />
        </svg>
      </div>
      <span class="pointer-events-none absolute inset-y-0 w-0.5 bg-ink" :style="left(head.at.value)"></span>
      <button
        v-for="(m, i) in marks ?? []"
        :key="`m${i}`"
        class="absolute bottom-0 flex h-6 w-6 -translate-x-1/2 cursor-pointer items-end justify-center"
        :style="left(m.at)"
        :aria-label="m.text"
        :title="m.text"
        @click="head.seek(m.at)"
      >
        <span class="h-2 w-2 rotate-45 border border-paper bg-ink"></span>
      </button>
      <button
        v-for="f in findings"
        :key="f.id"
        class="absolute inset-y-0 flex w-[26px] -translate-x-1/2 cursor-pointer justify-center"
        :style="left(f.moment_ms ?? 0)"
        :aria-label="`Finding: ${f.sentence}`"
        :title="f.sentence"
        @click="head.seek(f.moment_ms ?? 0)"
      >
        <span class="h-full w-[4px] bg-viol"></span>
      </button>
    </div>
    <span class="mono tabular-nums text-soft">{{ counter(length) }}</span>
    <label class="flex items-center gap-1.5 text-[0.9rem]">
      <input
        :checked="head.skipIdle.value"
        type="checkbox"
        @change="head.setSkipIdle(($event.target as HTMLInputElement).checked)"
        class="accent-accent"
      />skip idle
    </label>
    <slot />
  </div>
</template>

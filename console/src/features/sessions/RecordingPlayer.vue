<script setup lang="ts">
import type { Terminal } from "@xterm/xterm";
import { computed, nextTick, onBeforeUnmount, onMounted, ref, shallowRef, watch } from "vue";
import type { Finding, Frame } from "../../api/client";
import { LONGEST_PAUSE, activity, bytes, channels, frameAfter, tape } from "../../lib/recording";
import { counter } from "../../lib/time";
import { openTerminal } from "./terminal";

/** Plays what a terminal showed: faster, without pauses, from any moment. Keys: space, left, right, home, end. */
const props = defineProps<{ frames: Frame[]; findings: Finding[]; start?: number }>();

const SPEEDS = [1, 2, 4, 8, 16];
const STEP = 5000;
const BARS = 150;

const offered = computed(() => channels(props.frames));
const channel = ref(offered.value[0]?.channel ?? 0);
const playing = ref(false);
const speed = ref(2);
const skipIdle = ref(true);
const at = ref(0);
const host = ref<HTMLElement>();
const terminal = shallowRef<Terminal>();
const film = computed(() => tape(props.frames, channel.value));
const bars = computed(() => activity(film.value.frames, film.value.length, BARS));
const marks = computed(() => props.findings.filter((f) => f.moment_ms != null));
let next = 0;
let timer = 0;
let last = 0;

function show(f: Frame) {
  const t = terminal.value;
  if (!t) return;
  if ((f.kind === "output" || f.kind === "error") && f.data) t.write(bytes(f.data));
  if (f.kind === "size" && f.columns && f.rows) t.resize(f.columns, f.rows);
  if (f.kind === "mark")
    t.write(`\r\n\x1b[33m[${(f.text ?? "").replace(/[^\x20-\x7e\u00a0-\uffff]/g, "")}]\x1b[0m\r\n`);
}

function seek(to: number) {
  const target = Math.min(film.value.length, Math.max(0, to));
  if (target < at.value) {
    terminal.value?.reset();
    next = 0;
  }
  const end = frameAfter(film.value.frames, target);
  for (; next < end; next++) show(film.value.frames[next]!);
  at.value = target;
}

function step(now: number) {
  let to = at.value + (now - last) * speed.value;
  last = now;
  const coming = film.value.frames[next]?.at ?? film.value.length;
  if (skipIdle.value && coming - to > LONGEST_PAUSE) to = coming - LONGEST_PAUSE;
  seek(to);
  if (at.value >= film.value.length) playing.value = false;
  else if (playing.value) timer = requestAnimationFrame(step);
}

watch(playing, (on) => {
  cancelAnimationFrame(timer);
  if (!on) return;
  if (at.value >= film.value.length) seek(0);
  last = performance.now();
  timer = requestAnimationFrame(step);
});

function reopen() {
  terminal.value?.dispose();
  next = 0;
  at.value = 0;
  if (host.value) terminal.value = openTerminal(host.value, film.value.columns, Math.min(40, film.value.rows));
}

watch(channel, async () => {
  playing.value = false;
  await nextTick();
  reopen();
  seek(film.value.length);
});

function key(event: KeyboardEvent) {
  const jumps: Record<string, () => void> = {
    " ": () => (playing.value = !playing.value),
    ArrowLeft: () => seek(at.value - STEP),
    ArrowRight: () => seek(at.value + STEP),
    Home: () => seek(0),
    End: () => seek(film.value.length),
  };
  const jump = jumps[event.key];
  if (
    jump &&
    !(event.target instanceof HTMLSelectElement) &&
    !(event.target instanceof HTMLButtonElement && event.key === " ")
  ) {
    event.preventDefault();
    jump();
  }
}

function seekByPointer(event: PointerEvent) {
  const box = (event.currentTarget as HTMLElement).getBoundingClientRect();
  seek(((event.clientX - box.left) / box.width) * film.value.length);
}

onMounted(() => {
  reopen();
  // Without a wish the end is shown: it says how the session went.
  seek(props.start ?? film.value.length);
});
onBeforeUnmount(() => {
  cancelAnimationFrame(timer);
  terminal.value?.dispose();
});
defineExpose({ seek, play: () => (playing.value = true) });
</script>

<template>
  <section class="overflow-hidden rounded-lg border border-line" aria-label="Recording" @keydown="key">
    <div class="overflow-auto bg-screen px-3.5 py-3">
      <div ref="host" class="min-h-[260px]" data-testid="screen"></div>
    </div>
    <div class="flex flex-wrap items-center gap-x-4 gap-y-2 bg-sheet px-3 py-2.5">
      <button class="button min-w-16" data-testid="play" @click="playing = !playing">
        {{ playing ? "Pause" : "Play" }}
      </button>
      <label class="flex items-center gap-1.5 text-[0.9rem]">
        <span class="sr-only">Speed</span>
        <select v-model.number="speed" class="field py-1!">
          <option v-for="s in SPEEDS" :key="s" :value="s">{{ s }}×</option>
        </select>
      </label>
      <span class="mono tabular-nums" data-testid="position">{{ counter(at) }}</span>
      <div class="relative h-7 min-w-40 grow">
        <div
          class="h-full cursor-pointer"
          role="slider"
          tabindex="0"
          aria-label="Position in the recording"
          :aria-valuemin="0"
          :aria-valuemax="Math.round(film.length / 1000)"
          :aria-valuenow="Math.round(at / 1000)"
          :aria-valuetext="counter(at)"
          @pointerdown="seekByPointer"
        >
          <svg class="h-full w-full" :viewBox="`0 0 ${BARS} 28`" preserveAspectRatio="none" aria-hidden="true">
            <rect
              v-for="(height, i) in bars"
              :key="i"
              :x="i"
              :y="26 - height * 22"
              width="0.86"
              :height="1.5 + height * 22"
              :class="i / BARS <= at / film.length ? 'fill-live' : 'fill-rec'"
            />
          </svg>
        </div>
        <span
          class="pointer-events-none absolute inset-y-0 w-0.5 bg-ink"
          :style="{ left: `${(at / film.length) * 100}%` }"
        ></span>
        <button
          v-for="f in marks"
          :key="f.id"
          class="absolute inset-y-0 flex w-[26px] -translate-x-1/2 cursor-pointer justify-center"
          :style="{ left: `${((f.moment_ms ?? 0) / film.length) * 100}%` }"
          :aria-label="`Finding: ${f.sentence}`"
          :title="f.sentence"
          @click="seek(f.moment_ms ?? 0)"
        >
          <span class="h-full w-[4px] bg-viol"></span>
        </button>
      </div>
      <span class="mono tabular-nums text-soft">{{ counter(film.length) }}</span>
      <label class="flex items-center gap-1.5 text-[0.9rem]">
        <input v-model="skipIdle" type="checkbox" class="accent-accent" />skip idle
      </label>
      <label v-if="offered.length > 1" class="flex items-center gap-1.5 text-[0.9rem]">
        <span class="text-soft">Channel</span>
        <select v-model.number="channel" class="field max-w-56 py-1!">
          <option v-for="c in offered" :key="c.channel" :value="c.channel">{{ c.title }}</option>
        </select>
      </label>
    </div>
  </section>
</template>

<script setup lang="ts">
import type { Terminal } from "@xterm/xterm";
import { computed, nextTick, onBeforeUnmount, onMounted, ref, shallowRef, watch } from "vue";
import type { Finding, Frame } from "../../api/client";
import { activity, bytes, channels, frameAfter, tape } from "../../lib/recording";
import FilmMaker from "./FilmMaker.vue";
import PlayBar from "./PlayBar.vue";
import { openTerminal } from "./terminal";
import { usePlayhead } from "./usePlayhead";

/** Plays what a terminal showed: faster, without pauses, from any moment. Keys: space, left, right, home, end. */
const props = defineProps<{ id: string; frames: Frame[]; findings: Finding[]; start?: number }>();

const BARS = 150;

const offered = computed(() => channels(props.frames));
const channel = ref(offered.value[0]?.channel ?? 0);
const host = ref<HTMLElement>();
const terminal = shallowRef<Terminal>();
const film = computed(() => tape(props.frames, channel.value));
const bars = computed(() => activity(film.value.frames, film.value.length, BARS));
const marks = computed(() => props.findings.filter((f) => f.moment_ms != null));
let next = 0;
let at = 0;

function show(f: Frame) {
  const t = terminal.value;
  if (!t) return;
  if ((f.kind === "output" || f.kind === "error") && f.data) t.write(bytes(f.data));
  if (f.kind === "size" && f.columns && f.rows) t.resize(f.columns, f.rows);
  if (f.kind === "mark")
    t.write(`\r\n\x1b[33m[${(f.text ?? "").replace(/[^\x20-\x7e\u00a0-\uffff]/g, "")}]\x1b[0m\r\n`);
}

/** Shows a moment: going back, the terminal is drawn from the beginning. */
function draw(to: number) {
  if (to < at) {
    terminal.value?.reset();
    next = 0;
  }
  const end = frameAfter(film.value.frames, to);
  for (; next < end; next++) show(film.value.frames[next]!);
  at = to;
}
const head = usePlayhead(
  computed(() => film.value.length),
  draw,
  () => film.value.frames[next]?.at ?? film.value.length,
);

function reopen() {
  terminal.value?.dispose();
  next = 0;
  at = 0;
  if (host.value) terminal.value = openTerminal(host.value, film.value.columns, Math.min(40, film.value.rows));
}

watch(channel, async () => {
  head.playing.value = false;
  await nextTick();
  reopen();
  head.seek(film.value.length);
});

onMounted(() => {
  reopen();
  // Without a wish the end is shown: it says how the session went.
  head.seek(props.start ?? film.value.length);
});
onBeforeUnmount(() => terminal.value?.dispose());
defineExpose({ seek: head.seek, play: () => (head.playing.value = true) });
</script>

<template>
  <section class="overflow-hidden rounded-lg border border-line" aria-label="Recording" @keydown="head.key">
    <div class="overflow-auto bg-screen px-3.5 py-3">
      <div ref="host" class="min-h-[260px]" data-testid="screen"></div>
    </div>
    <PlayBar :head="head" :length="film.length" :bars="bars" :findings="marks">
      <label v-if="offered.length > 1" class="flex items-center gap-1.5 text-[0.9rem]">
        <span class="text-soft">Channel</span>
        <select v-model.number="channel" class="field max-w-56 py-1!">
          <option v-for="c in offered" :key="c.channel" :value="c.channel">{{ c.title }}</option>
        </select>
      </label>
    </PlayBar>
    <FilmMaker v-if="offered.length" :id="id" />
  </section>
</template>

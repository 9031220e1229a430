<script setup lang="ts">
import type { Terminal } from "@xterm/xterm";
import { onMounted, onUnmounted, ref } from "vue";
import { cellsIn, fontSize, openTerminal } from "../sessions/terminal";
import type { Live } from "./useLive";

/** One terminal of a live session, as it is now. Where whoever works in it has its size (`sizing`), it is told how many cells there is room for. */
const props = defineProps<{
  live: Live;
  session: string;
  channel: number;
  name: string;
  typing?: boolean;
  sizing?: boolean;
}>();
const emit = defineEmits<{ typed: [text: string]; room: [columns: number, rows: number] }>();
/** Size of the type in which one works, and the part of the window that the terminal may have. */
const TYPE = 14;
const PART = 0.6;
/** A window that is drawn larger is measured when it rests. */
const RESTS = 200;
let timer = 0;

function measure() {
  const width = host.value?.clientWidth ?? 0;
  if (width) emit("room", ...cellsIn(width - 16, window.innerHeight * PART, TYPE));
}
function measureSoon() {
  window.clearTimeout(timer);
  timer = window.setTimeout(measure, RESTS);
}
const host = ref<HTMLElement>();
let terminal: Terminal | undefined;
let leave: (() => void) | undefined;

function sized(columns: number, rows: number) {
  const box = host.value;
  if (!box) return;
  if (!terminal) {
    terminal = openTerminal(box, columns, rows);
    terminal.onData((text) => props.typing && emit("typed", text));
    // Keys go on only while whoever looks has the keyboard.
    terminal.attachCustomKeyEventHandler(() => props.typing ?? false);
  }
  terminal.options.disableStdin = false;
  terminal.options.fontSize = fontSize(box.clientWidth, columns);
  terminal.resize(columns, rows);
}

onMounted(() => {
  if (props.sizing) {
    measure();
    window.addEventListener("resize", measureSoon);
  }
  leave = props.live.show(props.session, props.channel, {
    draw: (columns, rows, bytes) => {
      sized(columns, rows);
      terminal?.reset();
      terminal?.write(bytes);
    },
    write: (bytes) => terminal?.write(bytes),
    resize: sized,
  });
});
onUnmounted(() => {
  window.removeEventListener("resize", measureSoon);
  window.clearTimeout(timer);
  leave?.();
  terminal?.dispose();
});
</script>

<template>
  <div>
    <div
      ref="host"
      class="min-h-24 overflow-hidden rounded bg-screen p-2"
      role="group"
      :aria-label="`Live terminal: ${name}`"
      data-testid="live-terminal"
    />
    <p v-if="live.lost.value" role="status" class="mt-1 text-wait">
      The connection broke off: this is as it was. Trying again …
    </p>
  </div>
</template>

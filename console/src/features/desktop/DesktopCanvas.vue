<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref } from "vue";
import type { Area, DesktopMessage } from "../../lib/desktop";
import { Film } from "./film";
import { cursorOf, drawOver } from "./over";
import { Pointer } from "./pointer";
import { Keyboard } from "../../lib/keysyms";

/** The picture of a desktop, with what is drawn over it; keys and pointer of whoever has the keyboard. */
const props = defineProps<{
  /** What a screen reader says of it. */
  name: string;
  /** Shown as large as it is, to be scrolled, or fitted. */
  mode: "fit" | "actual";
  /** Whether keys and pointer go to the machine. */
  acting?: boolean;
  /** Whether the pointer draws lines for the others. */
  drawing?: boolean;
  /** Whether the pointer of whoever controls it is shown: in what is watched and played. */
  pointed?: boolean;
  /** The one of several screens that is shown, from 1 on; all of them with 0. */
  screen?: number;
}>();
const emit = defineEmits<{
  key: [keysym: number, down: boolean];
  at: [x: number, y: number, buttons: number];
  line: [points: [number, number][]];
  sized: [width: number, height: number];
  /** Film of which no picture can be seen: a whole one is needed. */
  blind: [];
  /** So many single screens are side by side in the picture; 0 where there is one. */
  screens: [number: number];
}>();

/** Points of one drawn line, at most (docs/formats/desktop.md). */
const LONGEST_LINE = 2000;

const picture = ref<HTMLCanvasElement>();
const over = ref<HTMLCanvasElement>();
const typing = ref<HTMLTextAreaElement>();
const cursor = ref("default");
const size = ref<[number, number]>([1280, 800]);
const keyboard = new Keyboard((keysym, down) => emit("key", keysym, down));
const screens = ref<Area[]>([]);
const area = computed<Area>(
  () => screens.value[(props.screen ?? 0) - 1] ?? { x: 0, y: 0, width: size.value[0], height: size.value[1] },
);
const percent = (part: number, of: number) => `${(part / of) * 100}%`;
/** Where the whole picture lies, for its area to fill the frame. */
const placed = computed(() => ({
  left: percent(-area.value.x, area.value.width),
  top: percent(-area.value.y, area.value.height),
  width: percent(size.value[0], area.value.width),
  height: percent(size.value[1], area.value.height),
}));
const film = new Film(
  (frame) => {
    resize(frame.displayWidth, frame.displayHeight);
    picture.value?.getContext("2d", { alpha: false })?.drawImage(frame, 0, 0);
  },
  () => emit("blind"),
);
let lines: { who: string; points: [number, number][] }[] = [];
let pointer: [number, number] | undefined;
let mine: [number, number][] | undefined;
const hand = new Pointer(place, (x, y, buttons) => emit("at", x, y, buttons));

const shown = computed(() => (props.acting && !props.drawing ? cursor.value : props.drawing ? "crosshair" : "default"));

/** Draws a message. */
function show(message: DesktopMessage) {
  const to = picture.value?.getContext("2d", { alpha: false });
  if (!picture.value || !to) return;
  switch (message.kind) {
    case "size":
      resize(message.width, message.height);
      to.fillStyle = "#000000";
      to.fillRect(0, 0, message.width, message.height);
      lines = [];
      screens.value = [];
      emit("screens", 0);
      overlay();
      break;
    case "parts":
      for (const p of message.parts) {
        if (p.from) to.drawImage(picture.value, p.from[0], p.from[1], p.width, p.height, p.x, p.y, p.width, p.height);
        else if (p.pixels && p.width && p.height) to.putImageData(new ImageData(p.pixels, p.width, p.height), p.x, p.y);
      }
      break;
    case "shape":
      cursor.value = cursorOf(message);
      break;
    case "at":
      pointer = [message.x, message.y];
      if (props.pointed) overlay();
      break;
    case "line":
      if (message.points.length) lines.push(message);
      else lines = lines.filter((l) => l.who !== message.who);
      overlay();
      break;
    case "film":
      resize(message.width, message.height);
      film.begin(message.codec, message.width, message.height);
      break;
    case "piece":
      film.piece(message.key, message.time, message.data);
      break;
    case "screens":
      screens.value = message.screens;
      emit("screens", message.screens.length);
      break;
    case "bell":
    case "said":
      break;
  }
}

function resize(width: number, height: number) {
  if (!picture.value || (picture.value.width === width && picture.value.height === height)) return;
  picture.value.width = width;
  picture.value.height = height;
  if (over.value) [over.value.width, over.value.height] = [width, height];
  size.value = [width, height];
  emit("sized", width, height);
}

/** What lies over the picture: lines, and the pointer of somebody else. */
function overlay() {
  const all = [...lines.map((l) => l.points), ...(mine ? [mine] : [])];
  if (over.value) drawOver(over.value, all, props.pointed ? pointer : undefined);
}

/** Where on the machine's screen something is. */
function place(event: { clientX: number; clientY: number }): [number, number] {
  const box = picture.value!.getBoundingClientRect();
  const clamp = (n: number, most: number) => Math.max(0, Math.min(most - 1, Math.floor(n)));
  return [
    clamp(((event.clientX - box.left) / box.width) * size.value[0], size.value[0]),
    clamp(((event.clientY - box.top) / box.height) * size.value[1], size.value[1]),
  ];
}

function down(event: PointerEvent) {
  typing.value?.focus({ preventScroll: true });
  if (props.drawing) {
    picture.value?.setPointerCapture(event.pointerId);
    mine = [place(event)];
    return overlay();
  }
  if (!props.acting) return;
  event.preventDefault();
  picture.value?.setPointerCapture(event.pointerId);
  hand.down(event);
}

function moving(event: PointerEvent) {
  if (mine) {
    // A long line gets coarser, and not shorter.
    if (mine.push(place(event)) > LONGEST_LINE) mine = mine.filter((_, n) => n % 2 === 0);
    overlay();
  } else if (props.acting) hand.move(event);
}

function up(event: PointerEvent) {
  if (mine) {
    emit("line", mine);
    mine = undefined;
    overlay();
  } else if (props.acting) hand.up(event);
}

/** The browser took the pointer away: what was begun is not done. */
function cancelled() {
  mine = undefined;
  overlay();
  hand.release();
}

function scrolled(event: WheelEvent) {
  if (!props.acting || props.drawing) return;
  event.preventDefault();
  hand.scroll(event);
}

function pressed(event: KeyboardEvent) {
  if (!props.acting || event.isComposing) return;
  if (keyboard.press(event)) event.preventDefault();
}
function released(event: KeyboardEvent) {
  if (keyboard.release(event)) event.preventDefault();
}
function composed(event: CompositionEvent) {
  if (props.acting) keyboard.type(event.data);
  if (typing.value) typing.value.value = "";
}
/** What a dead key or an on-screen keyboard wrote, where no key said what it is. */
function written(event: Event) {
  const e = event as InputEvent;
  if (!e.isComposing && e.inputType === "insertText" && e.data && props.acting) keyboard.type(e.data);
  if (!e.isComposing && typing.value) typing.value.value = "";
}

/** Nothing stays pressed on the machine. */
function left() {
  keyboard.releaseAll();
  hand.release();
}

onMounted(() => window.addEventListener("blur", left));
onBeforeUnmount(() => {
  window.removeEventListener("blur", left);
  left();
  film.end();
});
defineExpose({
  show,
  combination: (keys: number[]) => keyboard.combination(keys),
  focus: () => typing.value?.focus({ preventScroll: true }),
  /** The picture as it is now. */
  canvas: picture,
});
</script>

<template>
  <div
    class="flex min-h-0 min-w-0 bg-screen"
    :class="mode === 'actual' ? 'overflow-auto' : 'items-center justify-center overflow-hidden'"
    data-testid="desktop-box"
  >
    <div
      class="relative overflow-hidden"
      :class="mode === 'actual' ? 'shrink-0' : 'max-h-full max-w-full'"
      :style="
        mode === 'actual'
          ? { width: `${area.width}px`, height: `${area.height}px` }
          : {
              aspectRatio: `${area.width} / ${area.height}`,
              width: `min(100%, calc(100cqh * ${area.width} / ${area.height}))`,
            }
      "
    >
      <canvas
        ref="picture"
        class="absolute touch-none"
        width="1280"
        height="800"
        role="img"
        :aria-label="name"
        data-testid="desktop"
        :style="{ cursor: shown, ...placed }"
        @pointerdown="down"
        @pointermove="moving"
        @pointerup="up"
        @pointercancel="cancelled"
        @wheel="scrolled"
        @contextmenu.prevent
      />
      <canvas
        ref="over"
        class="pointer-events-none absolute"
        width="1280"
        height="800"
        aria-hidden="true"
        :style="placed"
      />
      <textarea
        v-if="acting"
        ref="typing"
        class="absolute left-0 top-0 h-px w-px resize-none opacity-0"
        :aria-label="`Keyboard of ${name}`"
        autocapitalize="off"
        autocomplete="off"
        spellcheck="false"
        data-testid="desktop-keys"
        @keydown="pressed"
        @keyup="released"
        @compositionend="composed"
        @input="written"
        @blur="left"
      />
    </div>
  </div>
</template>

<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref } from "vue";
import type { DesktopMessage } from "../../lib/desktop";
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
}>();
const emit = defineEmits<{
  key: [keysym: number, down: boolean];
  at: [x: number, y: number, buttons: number];
  line: [points: [number, number][]];
  sized: [width: number, height: number];
  /** Film of which no picture can be seen: a whole one is needed. */
  blind: [];
}>();

const LONG_PRESS = 600;
/** How long film may be without a picture. */
const BLIND = 3000;
const WHEEL_STEP = 40;

const picture = ref<HTMLCanvasElement>();
const over = ref<HTMLCanvasElement>();
const typing = ref<HTMLTextAreaElement>();
const cursor = ref("default");
const size = ref<[number, number]>([1280, 800]);
const keyboard = new Keyboard((keysym, down) => emit("key", keysym, down));
let lines: { who: string; points: [number, number][] }[] = [];
let pointer: [number, number] | undefined;
let mine: [number, number][] | undefined;
let buttons = 0;
let moved: [number, number] | undefined;
let frame = 0;
let wheel = 0;
let decoder: VideoDecoder | undefined;
/** A film is shown from its first whole picture on. */
let whole = false;
let blind = 0;
let press = 0;
let touch: { x: number; y: number; dragging: boolean } | undefined;

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
      film(message.codec, message.width, message.height);
      break;
    case "piece":
      whole ||= message.key;
      if (whole && decoder?.state === "configured")
        decoder.decode(
          new EncodedVideoChunk({ type: message.key ? "key" : "delta", timestamp: message.time, data: message.data }),
        );
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

/** From here on the screen comes as film. */
function film(codec: string, width: number, height: number) {
  if (decoder && decoder.state !== "closed") decoder.close();
  whole = false;
  resize(width, height);
  if (typeof VideoDecoder === "undefined") return;
  window.clearInterval(blind);
  blind = window.setInterval(() => emit("blind"), BLIND);
  decoder = new VideoDecoder({
    output: (frame) => {
      window.clearInterval(blind);
      resize(frame.displayWidth, frame.displayHeight);
      picture.value?.getContext("2d", { alpha: false })?.drawImage(frame, 0, 0);
      frame.close();
    },
    // A film that cannot be read stands still; the next whole picture goes on.
    error: () => film(codec, width, height),
  });
  decoder.configure({ codec, codedWidth: width, codedHeight: height, optimizeForLatency: true });
}

function cursorOf(m: Extract<DesktopMessage, { kind: "shape" }>): string {
  if (!m.width || !m.height) return "default";
  const canvas = document.createElement("canvas");
  [canvas.width, canvas.height] = [m.width, m.height];
  canvas.getContext("2d")?.putImageData(new ImageData(m.pixels, m.width, m.height), 0, 0);
  return `url(${canvas.toDataURL()}) ${m.x} ${m.y}, default`;
}

/** What lies over the picture: lines, and the pointer of somebody else. */
function overlay() {
  const to = over.value?.getContext("2d");
  if (!to || !over.value) return;
  to.clearRect(0, 0, over.value.width, over.value.height);
  to.lineWidth = 4;
  to.lineCap = to.lineJoin = "round";
  for (const points of [...lines.map((l) => l.points), ...(mine ? [mine] : [])]) {
    for (const [colour, width] of [
      ["rgb(255 255 255 / 0.85)", 7],
      ["#7a5200", 4],
    ] as const) {
      to.strokeStyle = colour;
      to.lineWidth = width;
      to.beginPath();
      points.forEach(([x, y], i) => (i ? to.lineTo(x, y) : to.moveTo(x, y)));
      if (points.length === 1) to.lineTo(points[0]![0] + 0.1, points[0]![1]);
      to.stroke();
    }
  }
  if (props.pointed && pointer) {
    const [x, y] = pointer;
    to.beginPath();
    [
      [0, 0],
      [0, 17],
      [4, 13],
      [8, 20],
      [11, 18],
      [7, 12],
      [12, 12],
    ].forEach(([dx, dy], i) => (i ? to.lineTo(x + dx!, y + dy!) : to.moveTo(x, y)));
    to.closePath();
    to.fillStyle = "#1d2126";
    to.strokeStyle = "#ffffff";
    to.lineWidth = 1.5;
    to.fill();
    to.stroke();
  }
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

function send(at: [number, number]) {
  emit("at", at[0], at[1], buttons);
}

/** Movements go out once a frame of this screen: more of them nobody sees. */
function move(at: [number, number]) {
  moved = at;
  frame ||= requestAnimationFrame(() => {
    frame = 0;
    if (moved) send(moved);
    moved = undefined;
  });
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
  const at = place(event);
  if (event.pointerType === "touch") {
    touch = { x: event.clientX, y: event.clientY, dragging: false };
    move(at);
    // Held still, a finger is the right button.
    press = window.setTimeout(() => {
      if (!touch || touch.dragging) return;
      touch = undefined;
      click(at, 4);
    }, LONG_PRESS);
    return;
  }
  buttons |= [1, 2, 4][event.button] ?? 0;
  moved = undefined;
  send(at);
}

function click(at: [number, number], button: number) {
  buttons = button;
  send(at);
  buttons = 0;
  send(at);
}

function moving(event: PointerEvent) {
  if (mine) {
    mine.push(place(event));
    return overlay();
  }
  if (!props.acting) return;
  if (event.pointerType === "touch") {
    if (!touch) return;
    if (!touch.dragging && Math.hypot(event.clientX - touch.x, event.clientY - touch.y) > 8) {
      touch.dragging = true;
      buttons = 1;
      send(place({ clientX: touch.x, clientY: touch.y }));
    }
    if (!touch.dragging) return;
  }
  move(place(event));
}

function up(event: PointerEvent) {
  if (mine) {
    emit("line", mine.slice(0, 2000));
    mine = undefined;
    return overlay();
  }
  if (!props.acting) return;
  window.clearTimeout(press);
  const at = place(event);
  if (event.pointerType === "touch") {
    if (touch && !touch.dragging) click(at, 1);
    else if (touch) {
      buttons = 0;
      send(at);
    }
    touch = undefined;
    return;
  }
  buttons &= ~([1, 2, 4][event.button] ?? 0);
  moved = undefined;
  send(at);
}

function scrolled(event: WheelEvent) {
  if (!props.acting || props.drawing) return;
  event.preventDefault();
  wheel += event.deltaMode ? event.deltaY * WHEEL_STEP : event.deltaY;
  const at = place(event);
  for (; Math.abs(wheel) >= WHEEL_STEP; wheel -= Math.sign(wheel) * WHEEL_STEP) {
    const button = wheel < 0 ? 8 : 16;
    emit("at", at[0], at[1], buttons | button);
    emit("at", at[0], at[1], buttons);
  }
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

function left() {
  keyboard.releaseAll();
  if (buttons && moved === undefined) buttons = 0;
}

onMounted(() => window.addEventListener("blur", left));
onBeforeUnmount(() => {
  window.removeEventListener("blur", left);
  keyboard.releaseAll();
  cancelAnimationFrame(frame);
  window.clearInterval(blind);
  if (decoder && decoder.state !== "closed") decoder.close();
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
      class="relative"
      :class="mode === 'actual' ? 'shrink-0' : 'max-h-full max-w-full'"
      :style="
        mode === 'actual'
          ? { width: `${size[0]}px`, height: `${size[1]}px` }
          : { aspectRatio: `${size[0]} / ${size[1]}`, width: `min(100%, calc(100cqh * ${size[0]} / ${size[1]}))` }
      "
    >
      <canvas
        ref="picture"
        class="block h-full w-full touch-none"
        width="1280"
        height="800"
        role="img"
        :aria-label="name"
        data-testid="desktop"
        :style="{ cursor: shown }"
        @pointerdown="down"
        @pointermove="moving"
        @pointerup="up"
        @pointercancel="up"
        @wheel="scrolled"
        @contextmenu.prevent
      />
      <canvas
        ref="over"
        class="pointer-events-none absolute inset-0 h-full w-full"
        width="1280"
        height="800"
        aria-hidden="true"
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

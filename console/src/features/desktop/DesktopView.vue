<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/vue";
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from "vue";
import { COMBINATIONS } from "../../lib/keysyms";
import { saveAs } from "../../lib/save";
import { counter } from "../../lib/time";
import DesktopCanvas from "./DesktopCanvas.vue";
import DesktopPanel from "./DesktopPanel.vue";
import type { DesktopLink, Quality } from "./useDesktop";

/** A desktop and what one does with it: a bar above, the picture, and what is said beside it. */
const props = defineProps<{
  link: DesktopLink;
  me: string;
  back: string;
  /** What is said of what is seen, instead of the machine. */
  title?: string;
  /** Where pictures are kept; elsewhere they become a file. */
  keep?: (png: Blob) => void;
}>();
const canvas = ref<InstanceType<typeof DesktopCanvas>>();
const whole = ref<HTMLElement>();
const mode = ref<"fit" | "actual">("fit");
const beside = ref(false);
const drawing = ref(false);
const measured = ref(false);
const full = ref(false);
/** Single screens of the picture, and the one that is shown; all of them with 0. */
const screens = ref(0);
const screen = ref(0);
const seconds = ref(0);

const began = computed(() => props.link.began.value);
const own = computed(() => began.value?.own ?? false);
const control = computed(() => props.link.uses.control);
const holds = computed(() => props.link.people.value?.keyboard);
const acting = computed(() =>
  props.link.phase.value !== "live" ? false : own.value ? control.value === "on" : holds.value === props.me,
);
const sentence = computed(() => {
  const b = began.value;
  if (!b) return "";
  if (props.title) return props.title;
  if (!own.value) return `You ${acting.value ? "control" : "watch"} ${b.machine}, in the session of ${b.person}.`;
  return acting.value
    ? `You control ${b.machine} as ${b.account}.`
    : `You see ${b.machine}; keyboard and mouse do nothing there.`;
});
// What the rules give without asking anybody is taken at once.
watch(
  () => [own.value, control.value] as const,
  ([mine, state], before) => mine && state === "at-once" && before?.[1] !== "on" && props.link.send({ ask: "control" }),
);
watch(acting, (now) => now && void nextTick(() => canvas.value?.focus()));

const timer = window.setInterval(() => {
  seconds.value = began.value ? Math.max(0, (Date.now() - Date.parse(began.value.began)) / 1000) : 0;
}, 1000);

function fullScreen() {
  if (document.fullscreenElement) void document.exitFullscreen();
  else void whole.value?.requestFullscreen();
}
const changed = () => (full.value = document.fullscreenElement !== null);

/** The way out of the picture for whoever has no mouse: the machine gets every other key. */
function out(event: KeyboardEvent) {
  if (event.ctrlKey && event.altKey && event.shiftKey && acting.value) document.getElementById("desktop-back")?.focus();
}

/** The whole picture as a file: what is seen, without what is drawn over it. */
function save() {
  canvas.value?.canvas?.toBlob((blob) => {
    if (!blob) return;
    if (props.keep) return props.keep(blob);
    const at = new Date().toISOString().slice(0, 19).replaceAll(":", "");
    saveAs(blob, `${began.value?.machine ?? "desktop"}-${at}.png`);
  });
}

onMounted(() => {
  props.link.drawWith((message) => canvas.value?.show(message));
  document.addEventListener("fullscreenchange", changed);
});
onBeforeUnmount(() => {
  document.removeEventListener("fullscreenchange", changed);
  window.clearInterval(timer);
});
</script>

<template>
  <div ref="whole" class="flex h-full min-h-0 flex-col bg-paper" @keydown="out">
    <div class="flex flex-wrap items-center gap-x-3 gap-y-1 border-b border-line bg-sheet px-3 py-1.5">
      <RouterLink id="desktop-back" :to="back" class="text-[0.9rem] text-soft">Back</RouterLink>
      <h1 class="text-[1.02rem]!" data-testid="desktop-sentence">{{ sentence }}</h1>
      <span v-if="began?.recorded" class="text-[0.85rem] text-soft">Recorded</span>
      <span class="mono text-[0.85rem] tabular-nums text-soft">{{ counter(seconds * 1000) }}</span>
      <span class="ml-auto flex flex-wrap items-center gap-1.5">
        <template v-if="own">
          <button
            v-if="control === 'at-once' || control === 'ask'"
            class="button"
            data-kind="main"
            data-testid="ask-control"
            @click="link.send({ ask: 'control' })"
          >
            {{ control === "ask" ? "Ask for control" : "Control" }}
          </button>
          <span v-else-if="control === 'asked'" class="text-[0.9rem] font-semibold text-wait">Control: asked …</span>
          <button v-else-if="control === 'on'" class="button" @click="link.send({ 'give-back': 'control' })">
            Only look
          </button>
        </template>
        <Menu v-if="acting" as="div" class="relative">
          <MenuButton class="button">Keys</MenuButton>
          <MenuItems class="sheet absolute right-0 z-20 mt-1 w-60 py-1 shadow-lg focus:outline-none">
            <MenuItem v-for="c in COMBINATIONS" v-slot="{ active }" :key="c.title">
              <button
                class="block w-full px-3 py-1 text-left"
                :class="active ? 'bg-open' : ''"
                @click="canvas?.combination(c.keys)"
              >
                {{ c.title }}
              </button>
            </MenuItem>
          </MenuItems>
        </Menu>
        <button class="button" :aria-pressed="mode === 'actual'" @click="mode = mode === 'fit' ? 'actual' : 'fit'">
          {{ mode === "fit" ? "Actual size" : "Fit" }}
        </button>
        <label v-if="own && !title">
          <span class="sr-only">Colours</span>
          <select
            class="field py-1! text-[0.9rem]!"
            :value="link.quality.value"
            data-testid="quality"
            @change="link.setQuality(($event.target as HTMLSelectElement).value as Quality)"
          >
            <option value="line">Colours: by the line</option>
            <option value="exact">Colours: exact</option>
            <option value="few">Colours: few</option>
          </select>
        </label>
        <label v-if="screens">
          <span class="sr-only">Screens</span>
          <select v-model="screen" class="field py-1! text-[0.9rem]!" data-testid="screens">
            <option :value="0">All {{ screens }} screens</option>
            <option v-for="n in screens" :key="n" :value="n">Screen {{ n }}</option>
          </select>
        </label>
        <button class="button" @click="fullScreen">{{ full ? "Leave full screen" : "Full screen" }}</button>
        <button class="button" :aria-pressed="drawing" @click="drawing = !drawing">
          {{ drawing ? "Stop drawing" : "Draw" }}
        </button>
        <button v-if="drawing" class="button" @click="link.send({ line: [] })">Wipe</button>
        <button class="button" data-testid="keep-picture" @click="save">
          {{ keep ? "Keep a picture" : "Picture" }}
        </button>
        <button class="button" :aria-pressed="measured" @click="measured = !measured">Figures</button>
        <button class="button" :aria-pressed="beside" data-testid="beside" @click="beside = !beside">
          Talk<template v-if="!beside && link.said.value.length"> ({{ link.said.value.length }})</template>
        </button>
        <button v-if="own" class="button" data-testid="leave" @click="link.send('leave')">End</button>
      </span>
    </div>
    <p
      v-if="link.phase.value === 'lost' || link.notice.value"
      role="status"
      class="flex items-center gap-3 border-b border-line bg-waitbg px-3 py-1.5 text-[0.92rem] text-wait"
      data-testid="desktop-notice"
    >
      <span>{{
        link.phase.value === "lost"
          ? "The connection broke off; the session waits two minutes. Trying again …"
          : link.notice.value
      }}</span>
      <button v-if="link.phase.value !== 'lost'" class="button ml-auto" @click="link.dismiss()">Understood</button>
    </p>
    <div class="flex min-h-0 grow">
      <div class="relative min-w-0 grow">
        <DesktopCanvas
          ref="canvas"
          class="absolute inset-0 [container-type:size]"
          :class="link.phase.value === 'lost' ? 'opacity-60' : ''"
          :name="`Screen of ${began?.machine}`"
          :mode="mode"
          :acting="acting"
          :drawing="drawing"
          :pointed="!acting"
          :screen="screen"
          @screens="screens = $event"
          @key="(keysym, down) => link.send({ key: [keysym, down] })"
          @at="(x, y, buttons) => link.send({ at: [x, y, buttons] })"
          @line="(points) => link.send({ line: points })"
          @blind="own && link.send('refresh')"
        />
        <dl
          v-if="measured"
          class="mono absolute right-3 top-3 grid grid-cols-[auto_auto] gap-x-3 rounded bg-sheet/95 px-3 py-2 text-[0.85rem]"
          data-testid="figures"
        >
          <dt class="text-soft">Updates</dt>
          <dd class="text-right">{{ link.figures.updates }} /s</dd>
          <dt class="text-soft">Received</dt>
          <dd class="text-right">{{ link.figures.kilobytes.toFixed(0) }} kB/s</dd>
          <dt class="text-soft">Drawn in</dt>
          <dd class="text-right">{{ link.figures.draw.toFixed(1) }} ms</dd>
          <dt class="text-soft">There and back</dt>
          <dd class="text-right">{{ link.figures.trip.toFixed(0) }} ms</dd>
        </dl>
        <p v-if="acting" class="sr-only">Control, Alt and Shift together take the keyboard back to this page.</p>
      </div>
      <DesktopPanel v-if="beside" :link="link" :me="me" />
    </div>
  </div>
</template>

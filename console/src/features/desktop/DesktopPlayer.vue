<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed, onMounted, ref, watch } from "vue";
import { api, failure, unwrap, type Finding, type Frame } from "../../api/client";
import { readMessage, readRecorded, type RecordedMessage } from "../../lib/desktop";
import { counter } from "../../lib/time";
import FilmMaker from "../sessions/FilmMaker.vue";
import PlayBar from "../sessions/PlayBar.vue";
import { usePlayhead } from "../sessions/usePlayhead";
import DesktopCanvas from "./DesktopCanvas.vue";

/** Plays what a desktop showed: from any moment, faster, without pauses, with small pictures along the time line. */
const props = defineProps<{ id: string; length: number; frames: Frame[]; findings: Finding[]; start?: number }>();

const BARS = 150;
const PICTURES = 8;
/** Milliseconds that are fetched at a time. */
const AHEAD = 30_000;

const canvas = ref<InstanceType<typeof DesktopCanvas>>();
const mode = ref<"fit" | "actual">("fit");
const trouble = ref("");
const hovered = ref<number>();
const length = computed(() => Math.max(1, props.length));
const stretches = useQuery({
  queryKey: ["stretches", props.id, length],
  queryFn: async () =>
    unwrap(await api.GET("/api/v1/recordings/{id}/stretches", { params: { path: { id: props.id } } })),
  staleTime: Infinity,
});
const bars = computed(() => {
  const sums = new Array<number>(BARS).fill(0);
  for (const s of stretches.data.value ?? []) {
    const i = Math.min(BARS - 1, Math.floor((s.at / length.value) * BARS));
    sums[i] = (sums[i] ?? 0) + s.bytes;
  }
  const most = Math.log2(2 + Math.max(...sums));
  return sums.map((n) => (n ? Math.log2(2 + n) / most : 0));
});
const marks = computed(() =>
  props.frames.filter((f) => f.kind === "mark" || f.kind === "file").map((f) => ({ at: f.at, text: f.text ?? "" })),
);
const found = computed(() => props.findings.filter((f) => f.moment_ms != null));
const pictures = computed(() =>
  Array.from({ length: PICTURES }, (_, i) => Math.round(((i + 0.5) / PICTURES) * length.value)),
);
const pictureOf = (at: number, width: number) => `/api/v1/recordings/${props.id}/picture?at=${at}&width=${width}`;

/** Messages that were fetched, the next of them to be drawn, and until when they are all there. */
let messages: RecordedMessage[] = [];
let next = 0;
let until = -1;
let drawn = -1;
let fetching: AbortController | undefined;

async function fetchFrom(from: number, anew: boolean) {
  fetching?.abort();
  const mine = (fetching = new AbortController());
  head.waiting.value = anew;
  try {
    const end = from + AHEAD;
    const answer = await fetch(
      `/api/v1/recordings/${props.id}/screen?from=${Math.floor(from)}&until=${Math.floor(end)}`,
      {
        signal: mine.signal,
      },
    );
    if (!answer.ok) throw await failure(answer);
    const got = readRecorded(await answer.arrayBuffer());
    if (anew) {
      messages = got;
      next = 0;
      drawn = -1;
    } else {
      // It begins with the whole picture before: what is there already is not drawn again.
      const last = messages.at(-1)?.at ?? -1;
      messages = messages.slice(next).concat(got.filter((m) => m.at > last));
      next = 0;
    }
    until = end;
    trouble.value = "";
  } catch (why) {
    if (mine.signal.aborted) return;
    trouble.value = why instanceof Error ? why.message : String(why);
    head.playing.value = false;
  } finally {
    if (fetching === mine) {
      fetching = undefined;
      head.waiting.value = false;
    }
  }
  draw(head.at.value);
}

function draw(to: number) {
  const far = to < drawn || to > until;
  if (far) {
    if (!fetching || !head.waiting.value) void fetchFrom(to, true);
    return;
  }
  for (; next < messages.length && messages[next]!.at <= to; next++) {
    const message = readMessage(messages[next]!.bytes);
    if (message) canvas.value?.show(message);
  }
  drawn = to;
  if (to > until - AHEAD / 2 && until < length.value && !fetching) void fetchFrom(until, false);
}

/** When something happens next, as far as is known: after what was fetched, the next stretch. */
function coming(after: number): number {
  const message = messages[next];
  if (message) return message.at;
  return stretches.data.value?.find((s) => s.at > after)?.at ?? length.value;
}
// What was fetched while the recording went on ended where it ended then.
watch(length, (_, before) => (until = Math.min(until, before)));
const head = usePlayhead(length, draw, coming);

// Without a wish the end is shown: it says how the session went.
onMounted(() => head.seek(props.start ?? length.value));
defineExpose({ seek: head.seek, play: () => (head.playing.value = true) });
</script>

<template>
  <section class="overflow-hidden rounded-lg border border-line" aria-label="Recording" @keydown="head.key">
    <div class="relative aspect-[16/10] max-h-[70vh] w-full bg-screen">
      <DesktopCanvas
        ref="canvas"
        class="absolute inset-0 [container-type:size]"
        name="Recorded screen"
        :mode="mode"
        pointed
      />
      <figure v-if="hovered !== undefined" class="absolute bottom-2 left-2 m-0 rounded border border-line bg-sheet p-1">
        <img :src="pictureOf(Math.round(hovered / 1000) * 1000, 240)" alt="" width="240" height="150" />
        <figcaption class="mono text-center text-[0.8rem]">{{ counter(hovered) }}</figcaption>
      </figure>
    </div>
    <PlayBar :head="head" :length="length" :bars="bars" :findings="found" :marks="marks" @hover="hovered = $event">
      <button class="button" :aria-pressed="mode === 'actual'" @click="mode = mode === 'fit' ? 'actual' : 'fit'">
        {{ mode === "fit" ? "Actual size" : "Fit" }}
      </button>
      <a
        class="button no-underline!"
        :href="pictureOf(Math.round(head.at.value), 65535)"
        :download="`${id}-${Math.round(head.at.value)}.png`"
        >Picture</a
      >
    </PlayBar>
    <FilmMaker :id="id" />
    <p v-if="trouble" role="alert" class="bg-sheet px-3 pb-2 text-[0.92rem]">{{ trouble }}</p>
    <ol class="grid grid-cols-8 gap-1 bg-sheet px-3 pb-3" aria-label="Pictures along the time line">
      <li v-for="at in pictures" :key="at">
        <button class="block w-full cursor-pointer" :aria-label="`Go to ${counter(at)}`" @click="head.seek(at)">
          <img
            class="aspect-[16/10] w-full rounded-sm border bg-screen object-contain"
            :class="Math.abs(at - head.at.value) <= length / PICTURES / 2 ? 'border-accent' : 'border-line'"
            loading="lazy"
            alt=""
            :src="pictureOf(at, 160)"
          />
          <span class="mono text-[0.78rem] text-soft">{{ counter(at) }}</span>
        </button>
      </li>
    </ol>
  </section>
</template>

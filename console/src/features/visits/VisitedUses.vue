<script setup lang="ts">
import { computed } from "vue";

/** What whoever helps asks to do besides looking, and what they may do now: answered and taken back here. */
const props = defineProps<{ helper: string; wants?: string | null; uses: string[] }>();
defineEmits<{ answer: [capability: string, yes: boolean] }>();

interface Words {
  asks: string;
  more: string;
  now: string;
  back: string;
}
const WORDS: Record<string, Words> = {
  control: {
    asks: "use your keyboard and mouse",
    more: "You keep yours.",
    now: "uses your keyboard and mouse",
    back: "Take keyboard and mouse back",
  },
  shell: {
    asks: "work in a shell on this computer",
    more: "They can do there whatever you can, without being seen on the screen.",
    now: "works in a shell on this computer",
    back: "Close the shell",
  },
  "clipboard-in": {
    asks: "put text into your clipboard",
    more: "It replaces what you copied last.",
    now: "may put text into your clipboard",
    back: "No more text into the clipboard",
  },
  "clipboard-out": {
    asks: "read what you copy",
    more: "They get what is in your clipboard now as well: a password that you copied, for example.",
    now: "reads what you copy",
    back: "Keep to yourself what you copy",
  },
};
const asked = computed(() => (props.wants ? WORDS[props.wants] : undefined));
const given = computed(() => props.uses.flatMap((u) => (WORDS[u] ? [{ capability: u, words: WORDS[u] }] : [])));
</script>

<template>
  <div
    v-if="wants && asked"
    role="alertdialog"
    aria-labelledby="wants"
    class="flex flex-col gap-3 border-l-4 border-l-wait bg-waitbg px-3 py-3"
    data-testid="wants"
  >
    <p id="wants">
      {{ helper }} asks to <b>{{ asked.asks }}</b>. {{ asked.more }} You can take it back at any time.
    </p>
    <div class="flex gap-3">
      <button
        class="button py-2!"
        data-kind="main"
        :data-testid="`allow-${wants}`"
        @click="$emit('answer', wants, true)"
      >
        Allow
      </button>
      <button class="button py-2!" :data-testid="`refuse-${wants}`" @click="$emit('answer', wants, false)">
        Refuse
      </button>
    </div>
  </div>
  <ul v-if="given.length" class="flex flex-col gap-2" aria-label="What they may do now">
    <li
      v-for="g in given"
      :key="g.capability"
      class="flex flex-wrap items-center gap-3 border-l-4 border-l-wait bg-waitbg px-3 py-2 text-wait"
    >
      <span class="grow">{{ helper }} {{ g.words.now }}.</span>
      <button
        class="button"
        :data-testid="g.capability === 'control' ? 'take-back' : `take-back-${g.capability}`"
        @click="$emit('answer', g.capability, false)"
      >
        {{ g.words.back }}
      </button>
    </li>
  </ul>
</template>

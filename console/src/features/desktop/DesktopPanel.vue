<script setup lang="ts">
import { computed, ref } from "vue";
import ProblemNote from "../../ui/ProblemNote.vue";
import LivePeople from "../live/LivePeople.vue";
import { useTakePart } from "../live/useTakePart";
import type { DesktopLink } from "./useDesktop";

/** Beside the picture: who is there, what is said and noted, and the clipboard each way. */
const props = defineProps<{ link: DesktopLink; me: string }>();
const began = computed(() => props.link.began.value);
const own = computed(() => began.value?.own ?? false);
const note = ref(false);
const text = ref("");
const paste = ref("");
const { whom, control, invite, keyboard } = useTakePart(computed(() => began.value?.session ?? ""));

function speak() {
  const words = text.value.trim();
  if (words) props.link.send(note.value ? { note: words } : { say: words });
  text.value = "";
}
function put() {
  props.link.send({ paste: paste.value });
  paste.value = "";
}
const people = computed(() => props.link.people.value);
const guest = computed(() => people.value?.guests.find((g) => g.person === props.me));
const types = computed(() => people.value?.keyboard === props.me);
const inState = computed(() => props.link.uses["clipboard-in"]);
const outState = computed(() => props.link.uses["clipboard-out"]);
</script>

<template>
  <aside
    class="flex w-80 shrink-0 flex-col gap-5 overflow-y-auto border-l border-line bg-paper p-4"
    aria-label="Beside the screen"
  >
    <section v-if="people" aria-labelledby="there">
      <h2 id="there" class="mb-1">Who is there</h2>
      <LivePeople :people="people" :person="began?.person ?? ''" />
      <button
        v-if="guest?.control"
        class="button mt-2"
        data-testid="keyboard"
        @click="keyboard.mutate(types ? null : me)"
      >
        {{ types ? "Give the keyboard back" : "Take the keyboard" }}
      </button>
      <ProblemNote class="mt-2" :text="keyboard.error.value?.message" />
      <form v-if="own" class="mt-2 flex flex-wrap items-end gap-2" @submit.prevent="invite.mutate()">
        <label class="grow"
          ><span class="label">Invite a colleague</span
          ><input v-model="whom" class="field w-full" name="guest" placeholder="their name here" required
        /></label>
        <button class="button" :disabled="invite.isPending.value">Invite</button>
        <label class="flex w-full items-center gap-2 text-[0.9rem]"
          ><input v-model="control" type="checkbox" /> may take the keyboard</label
        >
        <ProblemNote :text="invite.error.value?.message" />
      </form>
    </section>
    <section class="flex flex-col" aria-labelledby="talk">
      <h2 id="talk" class="mb-1">Talk and notes</h2>
      <ol
        v-if="link.said.value.length"
        class="mb-2 flex flex-col gap-1.5 text-[0.92rem]"
        aria-live="polite"
        data-testid="said"
      >
        <li v-for="(s, i) in link.said.value" :key="i" class="[overflow-wrap:anywhere]">
          <b>{{ s.who }}</b> <span v-if="s.note" class="text-soft">noted</span> {{ s.text }}
        </li>
      </ol>
      <p v-else class="mb-2 text-[0.9rem] text-soft">
        Nothing was said yet. What is said and noted is in the recording.
      </p>
      <form class="flex flex-col gap-2" @submit.prevent="speak">
        <label
          ><span class="sr-only">{{ note ? "Note" : "Message" }}</span
          ><textarea
            v-model="text"
            class="field w-full"
            rows="2"
            maxlength="1000"
            name="words"
            @keydown.enter.exact.prevent="speak"
          />
        </label>
        <div class="flex items-center gap-3">
          <label class="flex items-center gap-2 text-[0.9rem]"
            ><input v-model="note" type="checkbox" /> a note only</label
          >
          <button class="button ml-auto">{{ note ? "Note" : "Say" }}</button>
        </div>
      </form>
    </section>
    <section v-if="own && (inState !== 'refused' || outState !== 'refused')" aria-labelledby="clipboard">
      <h2 id="clipboard" class="mb-1">Clipboard</h2>
      <template v-if="inState === 'on'">
        <form class="flex flex-col gap-2" @submit.prevent="put">
          <label
            ><span class="label">Into the machine</span
            ><textarea v-model="paste" class="field w-full" rows="2" name="paste" required />
          </label>
          <button class="button self-end">Put there</button>
        </form>
      </template>
      <button
        v-else-if="inState === 'at-once' || inState === 'ask'"
        class="button"
        @click="link.send({ ask: 'clipboard-in' })"
      >
        Paste into the machine
      </button>
      <template v-if="outState === 'on'">
        <label class="mt-2 block"
          ><span class="label">Copied there last</span
          ><textarea class="field w-full" rows="2" readonly :value="link.clipboard.value" data-testid="copied" />
        </label>
      </template>
      <button
        v-else-if="outState === 'at-once' || outState === 'ask'"
        class="button mt-2"
        @click="link.send({ ask: 'clipboard-out' })"
      >
        Take what is copied there
      </button>
      <p v-if="inState === 'asked' || outState === 'asked'" class="mt-2 text-[0.9rem] text-wait">
        Waiting for an answer …
      </p>
      <p class="mt-2 text-[0.85rem] text-soft">Text alone, up to 100,000 characters; each time is in the log.</p>
    </section>
  </aside>
</template>

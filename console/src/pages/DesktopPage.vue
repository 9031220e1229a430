<script setup lang="ts">
import { ref } from "vue";
import { useMe } from "../composables/useMe";
import DesktopView from "../features/desktop/DesktopView.vue";
import { useDesktop } from "../features/desktop/useDesktop";

/** The desktop of a machine, or one that is live. */
const props = defineProps<{ name?: string; id?: string; way?: string }>();
const { data: me } = useMe();
const link = useDesktop(props.id ? { session: props.id } : { machine: props.name ?? "", way: props.way });
const back = props.id ? `/sessions/${props.id}` : `/machines/${props.name}`;
const reason = ref("");
const ticket = ref("");

function again() {
  link.begin(reason.value, ticket.value);
}
link.begin();
</script>

<template>
  <main id="content" class="h-dvh" tabindex="-1">
    <DesktopView
      v-if="link.began.value && link.phase.value !== 'over'"
      :link="link"
      :me="me?.person ?? ''"
      :back="back"
    />
    <div v-else class="mx-auto flex max-w-2xl flex-col gap-4 px-4 py-16">
      <RouterLink :to="back" class="text-[0.9rem] text-soft">Back to {{ id ? "the session" : name }}</RouterLink>
      <template v-if="link.phase.value === 'over'">
        <h1 data-testid="desktop-over">{{ link.over.value }}</h1>
        <p v-if="link.began.value" class="text-soft">
          <RouterLink :to="`/sessions/${link.began.value.session}`">Its record and recording</RouterLink>
        </p>
        <form v-if="!link.began.value && !id" class="sheet flex flex-col gap-3 p-4" @submit.prevent="again">
          <p>Where the rules ask for a reason or a ticket, say them here.</p>
          <label
            ><span class="label">Reason</span
            ><input v-model="reason" class="field w-full" name="reason" maxlength="500"
          /></label>
          <label
            ><span class="label">Ticket</span
            ><input v-model="ticket" class="field w-full" name="ticket" maxlength="100"
          /></label>
          <button class="button self-start" data-kind="main">Try again</button>
        </form>
        <button v-else-if="!id" class="button self-start" data-kind="main" @click="again">Begin a new session</button>
      </template>
      <template v-else>
        <h1>Opening the screen of {{ name ?? "the session" }}</h1>
        <ol class="flex flex-col gap-1.5" aria-live="polite" data-testid="steps">
          <li v-for="(s, i) in link.steps.value" :key="i" class="flex gap-2">
            <span aria-hidden="true" class="w-4" :class="s.startsWith('waiting') ? 'text-wait' : 'text-soft'">{{
              i + 1 < link.steps.value.length ? "✓" : "…"
            }}</span>
            <span :class="s.startsWith('waiting') ? 'font-semibold text-wait' : ''">{{ s }}</span>
          </li>
        </ol>
      </template>
    </div>
  </main>
</template>

<script setup lang="ts">
import { computed } from "vue";
import type { Session } from "../../api/client";
import { useMe } from "../../composables/useMe";
import ProblemNote from "../../ui/ProblemNote.vue";
import LivePeople from "./LivePeople.vue";
import LiveTerminal from "./LiveTerminal.vue";
import { useLive } from "./useLive";
import { useTakePart } from "./useTakePart";
import { useTyping } from "./useTyping";

/** A session while it is live: what its terminals show, who takes part, and the keyboard. */
const props = defineProps<{ session: Session }>();
const { data: me, administers } = useMe();
const live = useLive(computed(() => [props.session.id]));
const it = computed(() => live.sessions[props.session.id]);
const hosts = computed(() => administers.value || me.value?.person === props.session.person);
const guest = computed(() => it.value?.people?.guests.find((g) => g.person === me.value?.person));
const types = computed(() => it.value?.people?.keyboard === me.value?.person);
const { whom, control, invite, keyboard } = useTakePart(computed(() => props.session.id));
const typed = useTyping(computed(() => props.session.id));
</script>

<template>
  <section aria-label="Live" class="mb-5">
    <h2 class="mb-2">Live</h2>
    <p v-if="it?.over" class="text-soft">{{ it.over }}</p>
    <template v-else-if="it">
      <LiveTerminal
        v-for="c in it.terminals"
        :key="c"
        class="mb-2"
        :live="live"
        :session="session.id"
        :channel="c"
        :name="`${session.person_name} on ${session.machine}`"
        :typing="types"
        @typed="typed(c, $event)"
      />
      <p v-if="!it.terminals.length" class="text-soft">It has no terminal open.</p>
      <div class="flex flex-wrap items-center gap-3">
        <LivePeople v-if="it.people" :people="it.people" :person="session.person" />
        <button
          v-if="guest?.control"
          class="button"
          data-testid="keyboard"
          @click="keyboard.mutate(types ? null : (me?.person ?? null))"
        >
          {{ types ? "Give the keyboard back" : "Take the keyboard" }}
        </button>
      </div>
      <ProblemNote class="mt-2" :text="keyboard.error.value?.message" />
      <form v-if="hosts" class="mt-3 flex flex-wrap items-end gap-3" @submit.prevent="invite.mutate()">
        <label
          ><span class="label">Invite somebody</span><input v-model="whom" class="field" name="guest" required
        /></label>
        <label class="flex items-center gap-2 py-2"><input v-model="control" type="checkbox" /> may type</label>
        <button class="button" :disabled="invite.isPending.value">Invite</button>
        <ProblemNote :text="invite.error.value?.message" />
      </form>
    </template>
  </section>
</template>

<script setup lang="ts">
import { computed, ref } from "vue";
import type { Effect } from "../../api/client";

/** What a draft would change, before it does. */
const props = defineProps<{ effect?: Effect; stale: boolean; problem?: string }>();

const SHOWN = 12;
const all = ref(false);
const changes = computed(() => (all.value ? props.effect?.changes : props.effect?.changes.slice(0, SHOWN)) ?? []);
const widens = (turn: string) => turn === "gains" || turn === "easier";
</script>

<template>
  <section aria-label="Effect" class="sheet overflow-auto p-3.5" :data-stale="stale || undefined" data-testid="effect">
    <p v-if="problem" class="text-soft">{{ problem }}</p>
    <p v-else-if="!effect" class="text-soft" role="status">Working out the effect…</p>
    <div v-else :class="{ 'opacity-60': stale }">
      <h2 class="text-[1.05rem] leading-snug">{{ effect.sentence }}</h2>
      <ul class="mt-2">
        <li
          v-for="(c, i) in changes"
          :key="i"
          class="my-2 border-l-[3px] pl-2.5 text-[0.92rem]"
          :class="widens(c.turn) ? 'border-accent' : 'border-edge'"
          data-testid="change"
          :data-turn="c.turn"
        >
          {{ c.sentence }}
        </li>
      </ul>
      <button v-if="effect.changes.length > SHOWN" class="button mt-1" @click="all = !all">
        {{ all ? "Show the largest alone" : `Show all ${effect.changes.length} changes` }}
      </button>
      <h2 class="mt-4">The past month under it</h2>
      <p class="text-[0.92rem]">{{ effect.past.sentence }}</p>
      <ul class="mt-1 divide-y divide-line">
        <li v-for="(j, i) in effect.past.judged.slice(0, 8)" :key="i" class="py-1.5 text-[0.9rem]" data-testid="judged">
          {{ j.sentence }}
          <RouterLink :to="`/sessions/${j.sessions.at(-1)}`" class="whitespace-nowrap text-soft">{{
            j.sessions.length === 1 ? "the session" : `the last of ${j.sessions.length}`
          }}</RouterLink>
        </li>
      </ul>
      <template v-if="effect.ending.length">
        <h2 class="mt-4 text-wait">
          {{ effect.ending.length === 1 ? "1 live session" : `${effect.ending.length} live sessions` }} would end
        </h2>
        <ul class="divide-y divide-line">
          <li v-for="e in effect.ending" :key="e.session" class="py-1.5 text-[0.9rem]">
            <RouterLink :to="`/sessions/${e.session}`">{{ e.sentence }}</RouterLink>
          </li>
        </ul>
      </template>
      <p class="mt-4 text-[0.9rem] text-soft">
        {{ effect.guardrails === 1 ? "1 guardrail holds" : `${effect.guardrails} guardrails hold` }} at every instant of
        the coming year; {{ effect.tests === 1 ? "1 test passes" : `${effect.tests} tests pass` }}.
      </p>
    </div>
  </section>
</template>

<script setup lang="ts">
import { computed } from "vue";
import type { PeopleThere } from "../../api/client";

/** Who is in a session besides whose it is: who watches, who was invited, who types. */
const props = defineProps<{ people: PeopleThere; person: string }>();
const watching = computed(() => props.people.watchers.filter((w) => w !== props.person));
const away = computed(() => props.people.guests.filter((g) => !props.people.watchers.includes(g.person)));
</script>

<template>
  <p class="flex flex-wrap gap-x-1.5 text-[0.9rem] text-soft" data-testid="live-people">
    <span class="font-semibold text-ink">{{ people.keyboard ?? person }} types.</span>
    <span v-if="watching.length">{{ watching.join(", ") }} {{ watching.length === 1 ? "watches" : "watch" }}.</span>
    <span v-if="away.length"
      >Invited: {{ away.map((g) => g.person + (g.control ? " (may type)" : "")).join(", ") }}.</span
    >
  </p>
</template>

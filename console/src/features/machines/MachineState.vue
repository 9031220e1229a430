<script setup lang="ts">
import { computed } from "vue";
import type { Machine } from "../../api/client";

/** How a machine stands: a shape and a word. */
const props = defineProps<{ machine: Machine }>();
const kind = computed(() => (props.machine.other_host_key ? "viol" : props.machine.state));
const word = computed(() => (props.machine.other_host_key ? "other host key" : props.machine.state));
</script>

<template>
  <span class="inline-flex items-center gap-2 whitespace-nowrap" :data-state="kind">
    <svg aria-hidden="true" class="h-2.5 w-2.5 flex-none" viewBox="0 0 10 10">
      <path v-if="kind === 'viol'" d="M5 0 10 10H0z" class="fill-viol" />
      <circle v-else-if="kind === 'online'" cx="5" cy="5" r="4.5" class="fill-accent" />
      <circle v-else-if="kind === 'offline'" cx="5" cy="5" r="4" fill="none" stroke="currentColor" stroke-width="1.5" />
      <rect v-else-if="kind === 'code issued'" x="1" y="1" width="8" height="8" class="fill-wait" />
      <path v-else-if="kind === 'incomplete'" d="M1 1l8 8M9 1l-8 8" stroke="currentColor" stroke-width="1.5" />
      <path v-else d="M0 5h10" stroke="currentColor" stroke-width="1.5" class="text-soft" />
    </svg>
    <span :class="{ 'font-semibold text-viol': kind === 'viol', 'text-soft': kind === 'no agent' }">{{ word }}</span>
  </span>
</template>

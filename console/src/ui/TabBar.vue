<script setup lang="ts">
/** The parts of a place, one of which is shown: links side by side, each an identifier, an address and a name. */
defineProps<{ label: string; tabs: readonly (readonly [string, string, string])[]; here: string }>();
</script>

<template>
  <nav :aria-label="label" class="mb-4 mt-2 flex flex-wrap print:hidden">
    <RouterLink
      v-for="[id, path, name] in tabs"
      :key="id"
      :to="path"
      class="tab"
      :aria-current="here === id ? 'page' : undefined"
      >{{ name }}</RouterLink
    >
  </nav>
</template>

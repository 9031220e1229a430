<script setup lang="ts">
/** The parts of the rules: as they are, how they came to be, what is used of them. */
defineProps<{ here: "rules" | "history" | "use" }>();
const TABS = [
  ["rules", "/rules", "In force"],
  ["history", "/rules/history", "History"],
  ["use", "/rules/use", "Use"],
] as const;
</script>

<template>
  <nav aria-label="Rules" class="mb-4 mt-2">
    <RouterLink
      v-for="[id, path, name] in TABS"
      :key="id"
      :to="path"
      class="tab"
      :aria-current="here === id ? 'page' : undefined"
      >{{ name }}</RouterLink
    >
  </nav>
</template>

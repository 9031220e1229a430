<script setup lang="ts">
import TabBar from "../../ui/TabBar.vue";

/** The parts of the rules: as they are, how they came to be, what is used of them. */
defineProps<{ here: "rules" | "history" | "use" }>();
const TABS = [
  ["rules", "/rules", "In force"],
  ["history", "/rules/history", "History"],
  ["use", "/rules/use", "Use"],
] as const;
</script>

<template>
  <TabBar label="Rules" :tabs="TABS" :here="here" />
</template>

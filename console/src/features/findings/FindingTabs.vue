<script setup lang="ts">
import { useMe } from "../../composables/useMe";

/** The parts of the audit: what was found, for which days there is evidence, what is looked for, what does not come up. */
defineProps<{ here: "findings" | "coverage" | "detections" | "suppressions" }>();
const { may } = useMe();
const TABS = [
  ["findings", "/findings", "Findings"],
  ["coverage", "/coverage", "Coverage"],
  ["detections", "/detections", "Detections"],
  ["suppressions", "/suppressions", "Suppressed"],
] as const;
</script>

<template>
  <nav v-if="may('read-everything')" aria-label="Audit" class="mb-4 mt-2 print:hidden">
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

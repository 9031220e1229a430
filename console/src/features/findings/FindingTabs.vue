<script setup lang="ts">
import { useMe } from "../../composables/useMe";
import TabBar from "../../ui/TabBar.vue";

/** The parts of the audit: what was found, for which days there is evidence, what is looked for, what does not come up, what is mailed. */
defineProps<{ here: "findings" | "coverage" | "detections" | "suppressions" | "reports" }>();
const { may } = useMe();
const TABS = [
  ["findings", "/findings", "Findings"],
  ["coverage", "/coverage", "Coverage"],
  ["detections", "/detections", "Detections"],
  ["suppressions", "/suppressions", "Suppressed"],
  ["reports", "/reports", "Reports"],
] as const;
</script>

<template>
  <TabBar v-if="may('read-everything')" label="Audit" :tabs="TABS" :here="here" />
</template>

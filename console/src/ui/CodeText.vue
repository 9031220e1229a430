<script setup lang="ts">
import { computed } from "vue";

/** A sentence of the service: what stands between backticks is a name or a command, and is set as one. */
const props = defineProps<{
  /** The sentence. */
  text: string;
}>();
const parts = computed(() => {
  const all = props.text.split("`");
  // An odd mark belongs to the text.
  return all.length % 2 ? all : [...all.slice(0, -2), all.slice(-2).join("`")];
});
</script>

<template>
  <span
    ><template v-for="(part, at) in parts" :key="at"
      ><code v-if="at % 2">{{ part }}</code
      ><template v-else>{{ part }}</template></template
    ></span
  >
</template>

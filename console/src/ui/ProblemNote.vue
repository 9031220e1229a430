<script setup lang="ts">
import CodeText from "./CodeText.vue";

/** What went wrong with something that was just tried, and what to do; nothing while there is no text. */
defineProps<{ text?: string | null }>();
</script>

<template>
  <p v-if="text" class="border-l-4 border-l-wait bg-waitbg px-3 py-2" role="alert"><CodeText :text="text" /></p>
</template>

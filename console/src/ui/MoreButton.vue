<script setup lang="ts">
/** Loads the next page of a list. */
defineProps<{ loading: boolean; shown: number; noun: string }>();
defineEmits<{ more: [] }>();
</script>

<template>
  <p class="mt-3 flex items-center gap-4 text-soft">
    <button class="button" :disabled="loading" @click="$emit('more')">{{ loading ? "Loading…" : "Show more" }}</button>
    <span>{{ shown }} {{ noun }} shown</span>
  </p>
</template>

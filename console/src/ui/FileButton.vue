<script setup lang="ts">
/** A button that lets somebody choose a file, and gives it at once. */
defineProps<{ name: string; disabled?: boolean }>();
const emit = defineEmits<{ chosen: [file: File] }>();

function choose(event: Event) {
  const input = event.target as HTMLInputElement;
  const file = input.files?.[0];
  if (file) emit("chosen", file);
  // The same file can be chosen again.
  input.value = "";
}
</script>

<template>
  <label
    class="button inline-block cursor-pointer self-start focus-within:outline-2 focus-within:outline-offset-2 focus-within:outline-accent"
    :class="disabled ? 'opacity-60' : ''"
  >
    <slot />
    <input class="sr-only" type="file" :name="name" :disabled="disabled" @change="choose" />
  </label>
</template>

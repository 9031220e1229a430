<script setup lang="ts">
import BrandMark from "./BrandMark.vue";

/** A page for people who have not signed in: one thing to do, in the middle. */
defineProps<{ heading: string }>();
</script>

<template>
  <main class="mx-auto flex min-h-screen max-w-md flex-col justify-center px-5 pb-24">
    <div class="mb-6 flex items-center gap-3">
      <BrandMark class="h-9 w-9 shrink-0" />
      <h1>{{ heading }}</h1>
    </div>
    <section class="sheet flex flex-col gap-4 p-5"><slot /></section>
  </main>
</template>

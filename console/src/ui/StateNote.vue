<script setup lang="ts">
import { ApiError } from "../api/client";

/** What stands where data will be: it is loading, there is none, or it could not be had. */
defineProps<{ loading?: boolean; error?: Error | null; empty?: string }>();
defineEmits<{ retry: [] }>();
</script>

<template>
  <div v-if="error" class="sheet border-l-4 border-l-edge p-4" role="alert" data-state="error">
    <p class="font-semibold">{{ error instanceof ApiError ? error.title : "The service cannot be reached" }}</p>
    <p class="mt-0.5 text-soft">
      {{ error instanceof ApiError ? error.message : "It may be restarting. What is shown may be out of date." }}
    </p>
    <button class="button mt-3" @click="$emit('retry')">Try again</button>
  </div>
  <p v-else-if="loading" class="py-6 text-soft" role="status" data-state="loading">Loading…</p>
  <p v-else class="py-6 text-soft" data-state="empty">{{ empty }}</p>
</template>

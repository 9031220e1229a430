<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";
import { ref, watch } from "vue";
import ProblemNote from "./ProblemNote.vue";

/** Asks why before something that others are told of; emits the reason, and `close` when it is left. */
const props = defineProps<{ open: boolean; title: string; text: string; busy?: boolean; problem?: string }>();
const emit = defineEmits<{ given: [why: string]; close: [] }>();
const why = ref("");
watch(
  () => props.open,
  () => (why.value = ""),
);
</script>

<template>
  <Dialog :open="open" class="relative z-20" @close="emit('close')">
    <div class="fixed inset-0 bg-ink/40" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center p-4 pt-[16vh]">
      <DialogPanel class="sheet w-full max-w-md p-5 shadow-xl">
        <DialogTitle as="h2">{{ title }}</DialogTitle>
        <p class="mb-3 mt-1 text-soft">{{ text }}</p>
        <form @submit.prevent="emit('given', why)">
          <label
            ><span class="label">Why</span
            ><input v-model="why" class="field w-full" name="why" required maxlength="500"
          /></label>
          <ProblemNote class="mt-3" :text="problem" />
          <div class="mt-4 flex gap-2">
            <button class="button" data-kind="main" :disabled="busy">{{ title }}</button>
            <button type="button" class="button" @click="emit('close')">Cancel</button>
          </div>
        </form>
      </DialogPanel>
    </div>
  </Dialog>
</template>

<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";
import SecondFactor from "../features/account/SecondFactor.vue";
import { useMe } from "../composables/useMe";
import { useProve } from "../composables/useProve";

/** Asks for a recent proof where the service wants one; what waited for it goes on by itself. */
const { data: me } = useMe();
const { waiting, done, cancel } = useProve();
</script>

<template>
  <Dialog :open="waiting !== null" class="relative z-30" @close="cancel">
    <div class="fixed inset-0 bg-ink/40" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center p-4 pt-[16vh]">
      <DialogPanel class="sheet w-full max-w-sm p-5 shadow-xl">
        <DialogTitle as="h2">Prove that it is still you</DialogTitle>
        <p class="mb-4 mt-1 text-soft">This changes how people sign in or what they may do.</p>
        <SecondFactor :wanted="me?.wanted ?? []" @proved="done" />
        <button type="button" class="button mt-4" @click="cancel">Cancel</button>
      </DialogPanel>
    </div>
  </Dialog>
</template>

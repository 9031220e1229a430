<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { api, unwrap, type Now } from "../../api/client";
import { proven } from "../../composables/useProve";
import ProblemNote from "../../ui/ProblemNote.vue";

/** Ends every session, or keeps new ones out: with a reason that those concerned read. */
const props = defineProps<{ now: Now }>();
const queries = useQueryClient();
const asking = ref<"" | "stop" | "lock" | "lift">("");
const why = ref("");
const words = {
  stop: ["End every session", "Whoever is connected is cut off at once, and reads the reason."],
  lock: ["Lock the service down", "Nobody new comes in, but in an emergency. Sessions that are live go on."],
  lift: ["Open the service again", "New sessions begin as the rules allow."],
} as const;
const act = useMutation({
  mutationFn: async () => {
    const body = { why: why.value };
    if (asking.value === "stop") unwrap(await api.POST("/api/v1/stop", { body: { all: true, ...body } }));
    if (asking.value === "lock") unwrap(await api.PUT("/api/v1/lockdown", { body }));
    if (asking.value === "lift") await proven(async () => unwrap(await api.POST("/api/v1/lockdown/lift", { body })));
  },
  onSuccess: () => {
    [asking.value, why.value] = ["", ""];
    void queries.invalidateQueries();
  },
});
</script>

<template>
  <span class="flex flex-wrap gap-2">
    <button v-if="props.now.live" class="button" @click="asking = 'stop'">End every session…</button>
    <button v-if="props.now.lockdown" class="button" data-kind="main" @click="asking = 'lift'">Open again…</button>
    <button v-else class="button" @click="asking = 'lock'">Lock down…</button>
  </span>
  <Dialog :open="asking !== ''" class="relative z-20" @close="asking = ''">
    <div class="fixed inset-0 bg-ink/40" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center p-4 pt-[16vh]">
      <DialogPanel v-if="asking" class="sheet w-full max-w-md p-5 shadow-xl">
        <DialogTitle as="h2">{{ words[asking][0] }}</DialogTitle>
        <p class="mb-3 mt-1 text-soft">{{ words[asking][1] }}</p>
        <form @submit.prevent="act.mutate()">
          <label
            ><span class="label">Why</span
            ><input v-model="why" class="field w-full" name="why" required maxlength="500"
          /></label>
          <ProblemNote class="mt-3" :text="act.error.value?.message" />
          <div class="mt-4 flex gap-2">
            <button class="button" data-kind="main" :disabled="act.isPending.value">{{ words[asking][0] }}</button>
            <button type="button" class="button" @click="asking = ''">Cancel</button>
          </div>
        </form>
      </DialogPanel>
    </div>
  </Dialog>
</template>

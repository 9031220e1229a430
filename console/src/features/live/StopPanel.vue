<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { api, unwrap, type Now } from "../../api/client";
import { proven } from "../../composables/useProve";
import ReasonDialog from "../../ui/ReasonDialog.vue";
import StopButton from "./StopButton.vue";

/** Ends every session, or keeps new ones out: with a reason that those concerned read. */
defineProps<{ now: Now }>();
const queries = useQueryClient();
const asking = ref<"" | "lock" | "lift">("");
const words = {
  "": ["", ""],
  lock: ["Lock the service down", "Nobody new comes in, but in an emergency. Sessions that are live go on."],
  lift: ["Open the service again", "New sessions begin as the rules allow."],
} as const;
const act = useMutation({
  mutationFn: async (why: string) => {
    const body = { why };
    if (asking.value === "lock") unwrap(await api.PUT("/api/v1/lockdown", { body }));
    if (asking.value === "lift") await proven(async () => unwrap(await api.POST("/api/v1/lockdown/lift", { body })));
  },
  onSuccess: () => {
    asking.value = "";
    void queries.invalidateQueries();
  },
});
</script>

<template>
  <span class="flex flex-wrap gap-2">
    <StopButton v-if="now.live" :which="{ all: true }" name="every session" />
    <button v-if="now.lockdown" class="button" data-kind="main" @click="asking = 'lift'">Open again…</button>
    <button v-else class="button" @click="asking = 'lock'">Lock down…</button>
  </span>
  <ReasonDialog
    :open="asking !== ''"
    :title="words[asking][0]"
    :text="words[asking][1]"
    :busy="act.isPending.value"
    :problem="act.error.value?.message"
    @given="act.mutate"
    @close="asking = ''"
  />
</template>

<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { api, unwrap } from "../../api/client";
import ReasonDialog from "../../ui/ReasonDialog.vue";

/** Ends sessions at once: all, or those of a person, on a machine, or by a rule. Says afterwards what was ended. */
const props = defineProps<{
  which: { all?: true; person?: string; machine?: string; rule?: string };
  /** What is ended, to follow "End". */
  name: string;
}>();
const queries = useQueryClient();
const asking = ref(false);
const stop = useMutation({
  mutationFn: async (why: string) => unwrap(await api.POST("/api/v1/stop", { body: { ...props.which, why } })),
  onSuccess: () => {
    asking.value = false;
    void queries.invalidateQueries();
  },
});
</script>

<template>
  <button class="button" data-testid="stop" @click="asking = true">End {{ name }}…</button>
  <span v-if="stop.data.value" class="self-center text-soft" role="status">{{ stop.data.value.sentence }}</span>
  <ReasonDialog
    :open="asking"
    :title="`End ${name}`"
    text="Whoever is connected is cut off at once, and reads the reason."
    :busy="stop.isPending.value"
    :problem="stop.error.value?.message"
    @given="stop.mutate"
    @close="asking = false"
  />
</template>

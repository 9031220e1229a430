<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap, type AccessRequest } from "../../api/client";
import { proven } from "../../composables/useProve";
import ProblemNote from "../../ui/ProblemNote.vue";

/** Answers a request: yes, yes with less, or no. */
const props = defineProps<{ request: AccessRequest }>();
const queries = useQueryClient();
const why = ref("");
const kept = ref([...props.request.capabilities]);
const hours = ref("");
const lasts = computed(() => {
  const whole =
    (new Date(props.request.until).getTime() - Math.max(Date.now(), new Date(props.request.from).getTime())) /
    3_600_000;
  return [0.5, 1, 2, 4, 8, 24].filter((h) => h < whole);
});
const answer = useMutation({
  mutationFn: async (yes: boolean) => {
    const from = Math.max(Date.now(), new Date(props.request.from).getTime());
    const until = hours.value ? new Date(from + Number(hours.value) * 3_600_000).toISOString() : undefined;
    const less = kept.value.length < props.request.capabilities.length;
    const body = {
      yes,
      why: why.value,
      until: yes ? until : undefined,
      capabilities: yes && less ? kept.value : undefined,
    };
    return proven(async () =>
      unwrap(await api.POST("/api/v1/requests/{id}/answer", { params: { path: { id: props.request.id } }, body })),
    );
  },
  onSettled: () => {
    void queries.invalidateQueries({ queryKey: ["requests"] });
    void queries.invalidateQueries({ queryKey: ["passes"] });
    void queries.invalidateQueries({ queryKey: ["now"] });
  },
});
</script>

<template>
  <form class="mt-3 flex flex-wrap items-end gap-x-4 gap-y-3" @submit.prevent="answer.mutate(true)">
    <fieldset class="flex flex-wrap gap-x-3">
      <legend class="label">May use</legend>
      <label v-for="c in request.capabilities" :key="c" class="flex items-center gap-1.5 py-1.5"
        ><input v-model="kept" type="checkbox" :value="c" />
        {{ c === "forward" ? `forward to ${request.target ?? "any port that the rules allow"}` : c }}</label
      >
    </fieldset>
    <label v-if="lasts.length"
      ><span class="label">For</span
      ><select v-model="hours" class="field" name="hours">
        <option value="">as long as asked</option>
        <option v-for="h in lasts" :key="h" :value="String(h)">
          {{ h < 1 ? `${h * 60} minutes` : h === 1 ? "1 hour" : `${h} hours` }}
        </option>
      </select></label
    >
    <label class="min-w-56 flex-1"
      ><span class="label">A word to whoever asked; a no needs one</span
      ><input v-model="why" class="field w-full" name="why" maxlength="500"
    /></label>
    <button class="button" data-kind="main" :disabled="answer.isPending.value || !kept.length">Approve</button>
    <button
      type="button"
      class="button"
      :disabled="answer.isPending.value || !why.trim()"
      @click="answer.mutate(false)"
    >
      Refuse
    </button>
    <ProblemNote class="w-full" :text="answer.error.value?.message" />
  </form>
</template>

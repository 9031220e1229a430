<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { reactive } from "vue";
import { api, unwrap } from "../../api/client";
import { proven } from "../../composables/useProve";
import { words } from "../../lib/words";
import ProblemNote from "../../ui/ProblemNote.vue";
import CodeShown from "./CodeShown.vue";

/** Issues a code with which several machines of a site enrol. */
defineProps<{ zone: string }>();
const emit = defineEmits<{ close: [] }>();
const queries = useQueryClient();
const many = reactive({ site: "", uses: 10, labels: "" });
const issue = useMutation({
  mutationFn: () =>
    proven(async () => {
      const body = { site: many.site, uses: many.uses, labels: words(many.labels) };
      return unwrap(await api.POST("/api/v1/enrolment-codes", { body }));
    }),
  onSuccess: () => queries.invalidateQueries({ queryKey: ["codes"] }),
});
</script>

<template>
  <form class="sheet flex max-w-5xl flex-wrap items-end gap-3 px-4 py-3.5" @submit.prevent="issue.mutate()">
    <label
      ><span class="label">Site</span><input v-model="many.site" class="field" name="code-site" required v-focus
    /></label>
    <label
      ><span class="label">For so many machines</span
      ><input v-model.number="many.uses" type="number" class="field w-28" name="code-uses" min="1" max="10000"
    /></label>
    <label
      ><span class="label">Labels they get</span><input v-model="many.labels" class="field mono" name="code-labels"
    /></label>
    <button class="button" data-kind="main" :disabled="issue.isPending.value">Issue a code</button>
    <button type="button" class="button" @click="emit('close')">Close</button>
    <ProblemNote class="w-full" :text="issue.error.value?.message" />
    <CodeShown v-if="issue.data.value" class="w-full" :issued="issue.data.value" :zone="zone" />
  </form>
</template>

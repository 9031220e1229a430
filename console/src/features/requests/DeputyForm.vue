<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap } from "../../api/client";
import { dayAndClock } from "../../lib/time";
import ProblemNote from "../../ui/ProblemNote.vue";

/** Who answers requests in somebody's place while they are away. */
const props = defineProps<{ me: string; zone: string }>();
const queries = useQueryClient();
const deputies = useQuery({
  queryKey: ["requests", "deputies"],
  queryFn: async () => unwrap(await api.GET("/api/v1/deputies")),
});
const own = computed(() => deputies.data.value?.find((d) => d.person === props.me));
const others = computed(() => deputies.data.value?.filter((d) => d.deputy === props.me) ?? []);
const deputy = ref("");
const days = ref("3");
const refresh = () => queries.invalidateQueries({ queryKey: ["requests"] });
const set = useMutation({
  mutationFn: async () => {
    const until = new Date(Date.now() + Number(days.value) * 86_400_000).toISOString();
    unwrap(await api.PUT("/api/v1/deputies", { body: { deputy: deputy.value.trim(), until } }));
  },
  onSuccess: () => {
    deputy.value = "";
    void refresh();
  },
});
const end = useMutation({
  mutationFn: async () => unwrap(await api.DELETE("/api/v1/deputies")),
  onSuccess: refresh,
});
</script>

<template>
  <p v-for="d in others" :key="d.person" class="mb-2">
    You answer in the place of {{ d.person }} until {{ dayAndClock(d.until, zone) }}.
  </p>
  <p v-if="own" class="sheet flex flex-wrap items-baseline gap-x-4 px-4 py-2" data-testid="deputy">
    <span>{{ own.deputy }} answers in your place until {{ dayAndClock(own.until, zone) }}.</span>
    <button class="button ml-auto" :disabled="end.isPending.value" @click="end.mutate()">I am back</button>
  </p>
  <form v-else class="sheet flex flex-wrap items-end gap-x-4 gap-y-3 px-4 py-3.5" @submit.prevent="set.mutate()">
    <label class="min-w-48"
      ><span class="label">Who answers in your place</span
      ><input v-model="deputy" class="field w-full" name="deputy" required maxlength="64" placeholder="arlo"
    /></label>
    <label
      ><span class="label">For</span
      ><select v-model="days" class="field" name="days">
        <option value="1">a day</option>
        <option value="3">3 days</option>
        <option value="7">a week</option>
        <option value="21">3 weeks</option>
      </select></label
    >
    <button class="button" :disabled="set.isPending.value">Let them answer</button>
    <ProblemNote class="w-full" :text="set.error.value?.message ?? end.error.value?.message" />
  </form>
</template>

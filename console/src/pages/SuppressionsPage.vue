<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import FindingTabs from "../features/findings/FindingTabs.vue";
import { dayAndClock } from "../lib/time";
import ProblemNote from "../ui/ProblemNote.vue";
import StateNote from "../ui/StateNote.vue";

/** Findings that are not to come up, each until a day. */
const { zone } = useNow();
const { administers } = useMe();
const list = useQuery({
  queryKey: ["suppressions"],
  queryFn: async () => unwrap(await api.GET("/api/v1/suppressions")),
});
const inForce = computed(() => list.data.value?.filter((s) => s.in_force).length ?? 0);
const withdraw = useMutation({
  mutationFn: async (id: string) => unwrap(await api.DELETE("/api/v1/suppressions/{id}", { params: { path: { id } } })),
  onSuccess: () => list.refetch(),
});
</script>

<template>
  <h1 data-testid="sentence">
    {{
      inForce
        ? `${inForce} ${inForce === 1 ? "suppression keeps" : "suppressions keep"} findings from coming up.`
        : list.data.value
          ? "Every finding comes up: nothing is suppressed."
          : "Suppressed findings"
    }}
  </h1>
  <FindingTabs here="suppressions" />
  <ProblemNote class="mb-3" :text="withdraw.error.value?.message" />
  <ul v-if="list.data.value?.length" class="sheet divide-y divide-line">
    <li
      v-for="s in list.data.value"
      :key="s.id"
      class="flex flex-wrap items-baseline gap-x-4 px-4 py-3"
      :class="{ 'text-soft': !s.in_force }"
      data-testid="suppression"
    >
      <div class="min-w-0 flex-1">
        <p>{{ s.sentence }}</p>
        <p class="mt-0.5 text-[0.9rem] text-soft">
          {{ s.why }} · by {{ s.by }} on {{ dayAndClock(s.made, zone) }} · held back
          {{ s.hits === 1 ? "once" : `${s.hits} times` }}<template v-if="!s.in_force"> · over</template>
        </p>
      </div>
      <button
        v-if="administers && s.in_force"
        class="button"
        :disabled="withdraw.isPending.value"
        @click="withdraw.mutate(s.id)"
      >
        Let them come up
      </button>
    </li>
  </ul>
  <StateNote
    v-else
    :loading="list.isPending.value"
    :error="list.error.value"
    empty="On the page of a finding, others like it can be kept from coming up for a while."
    @retry="list.refetch()"
  />
</template>

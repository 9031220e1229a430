<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import StateNote from "../ui/StateNote.vue";

const props = defineProps<{ id: string }>();
const { data: me, administers } = useMe();
const queries = useQueryClient();
const review = useQuery({
  queryKey: ["review", () => props.id],
  queryFn: async () => unwrap(await api.GET("/api/v1/reviews/{id}", { params: { path: { id: props.id } } })),
});
const undecided = ref(false);
const SHOWN = 400;
const entries = computed(() => (review.data.value?.entries ?? []).filter((e) => !undecided.value || !e.decision));
const decide = useMutation({
  mutationFn: async (d: { n: number; decision: string }) =>
    unwrap(
      await api.PUT("/api/v1/reviews/{id}/entries/{n}", {
        params: { path: { id: props.id, n: d.n } },
        body: { decision: d.decision, note: "" },
      }),
    ),
  onSettled: () => queries.invalidateQueries({ queryKey: ["review"] }),
});
const closed = useMutation({
  mutationFn: async () => unwrap(await api.POST("/api/v1/reviews/{id}/close", { params: { path: { id: props.id } } })),
  onSettled: () => queries.invalidateQueries({ queryKey: ["review"] }),
});
const may = (e: { person: string; owners: string[] }) =>
  !review.data.value?.closed &&
  e.person !== me.value?.person &&
  (administers.value || e.owners.includes(me.value?.person ?? ""));
</script>

<template>
  <StateNote
    v-if="!review.data.value"
    :loading="review.isPending.value"
    :error="review.error.value"
    @retry="review.refetch()"
  />
  <template v-else>
    <div class="flex flex-wrap items-start gap-4">
      <h1 class="grow">{{ review.data.value.title }}: {{ review.data.value.sentence }}</h1>
      <button
        v-if="administers && !review.data.value.closed"
        class="button"
        :disabled="closed.isPending.value"
        @click="closed.mutate()"
      >
        Close the review
      </button>
    </div>
    <p class="mt-1 text-[0.92rem] text-soft">
      {{ review.data.value.people === "*" ? "Everybody" : review.data.value.people }} on
      {{ review.data.value.machines === "*" ? "every machine" : review.data.value.machines }}, begun by
      {{ review.data.value.created_by }}.
    </p>
    <p v-if="closed.data.value" class="mt-2" role="status">
      {{ closed.data.value.sentence }}
      <RouterLink v-if="closed.data.value.draft" :to="`/rules/drafts/${closed.data.value.draft}`"
        >The withdrawals are written in a draft.</RouterLink
      >
    </p>
    <StateNote v-if="decide.error.value" class="mt-3" :error="decide.error.value" @retry="decide.reset()" />
    <label class="mb-2 mt-4 flex items-center gap-2"
      ><input v-model="undecided" type="checkbox" />Only what waits for a decision</label
    >
    <div v-if="entries.length" class="sheet overflow-x-auto">
      <table class="w-full">
        <thead>
          <tr class="border-b border-line [&>th]:px-3 [&>th]:py-1.5">
            <th scope="col">Person</th>
            <th scope="col">Rule</th>
            <th scope="col">Gives</th>
            <th scope="col">On</th>
            <th scope="col">Decision</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="e in entries.slice(0, SHOWN)"
            :key="e.n"
            class="border-b border-line align-top last:border-0 [&>td]:px-3 [&>td]:py-1.5"
            data-testid="entry"
          >
            <td>{{ e.person_name }}</td>
            <td class="mono">{{ e.rule }}</td>
            <td>{{ e.capabilities.join(", ") }}</td>
            <td>
              {{ e.machines.slice(0, 4).join(", ")
              }}<template v-if="e.machines.length > 4"> and {{ e.machines.length - 4 }} more</template>
            </td>
            <td class="whitespace-nowrap">
              <span v-if="e.decision" class="mr-3"
                >{{ e.decision === "keep" ? "Kept" : "Withdrawn" }} by {{ e.decided_by }}</span
              >
              <template v-if="may(e)">
                <button
                  v-if="e.decision !== 'keep'"
                  class="button mr-1.5"
                  :aria-label="`Keep ${e.rule} of ${e.person_name}`"
                  @click="decide.mutate({ n: e.n, decision: 'keep' })"
                >
                  Keep
                </button>
                <button
                  v-if="e.decision !== 'withdraw'"
                  class="button"
                  :aria-label="`Withdraw ${e.rule} of ${e.person_name}`"
                  @click="decide.mutate({ n: e.n, decision: 'withdraw' })"
                >
                  Withdraw
                </button>
              </template>
              <span v-else-if="!e.decision" class="text-soft"
                >waits for {{ e.owners.join(", ") || "an administrator" }}</span
              >
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="entries.length > SHOWN" class="px-3 py-2 text-soft">
        The first {{ SHOWN }} of {{ entries.length }} are shown.
      </p>
    </div>
    <StateNote v-else empty="Nothing waits for a decision." />
  </template>
</template>

<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, unwrap, type AccessRequest } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import AnswerForm from "../features/requests/AnswerForm.vue";
import AskForm from "../features/requests/AskForm.vue";
import ProposalList from "../features/proposals/ProposalList.vue";
import DeputyForm from "../features/requests/DeputyForm.vue";
import { dayAndClock } from "../lib/time";
import ProblemNote from "../ui/ProblemNote.vue";
import StateNote from "../ui/StateNote.vue";

const props = defineProps<{ id?: string }>();
const { data: me } = useMe();
const { zone } = useNow();
const queries = useQueryClient();
const requests = useQuery({
  queryKey: ["requests"],
  queryFn: async () => unwrap(await api.GET("/api/v1/requests", { params: { query: {} } })),
});
const passes = useQuery({ queryKey: ["passes"], queryFn: async () => unwrap(await api.GET("/api/v1/passes")) });
const all = computed(() => (requests.data.value ?? []).filter((r) => !props.id || r.id === props.id));
const yours = computed(() => all.value.filter((r) => r.yours));
const others = computed(() => all.value.filter((r) => !r.yours));
const good = computed(() => (passes.data.value ?? []).filter((p) => p.state !== "withdrawn"));
const sentence = computed(() => {
  if (!requests.data.value) return "Requests";
  const n = yours.value.length;
  const waits = all.value.filter((r) => r.yours && r.waiting).length;
  if (!n) return props.id ? "This request is not yours to answer." : "No request waits for your answer.";
  const now = waits ? `, and somebody sits at a terminal and waits` : "";
  return n === 1 ? `1 request waits for your answer${now}.` : `${n} requests wait for your answer${now}.`;
});
const told = (r: AccessRequest) => {
  const last = r.answers.at(-1);
  if (r.state === "open") return `waits for ${r.approvers.join(" or ")}`;
  if (r.state === "refused") return `refused by ${last?.by ?? "an approver"}${last?.why ? `: ${last.why}` : ""}`;
  return r.state === "approved" ? `approved by ${r.answers.map((a) => a.by).join(" and ")}` : r.state;
};
const refresh = () => queries.invalidateQueries({ queryKey: ["requests"] });
const withdraw = useMutation({
  mutationFn: async (id: string) =>
    unwrap(await api.POST("/api/v1/requests/{id}/withdraw", { params: { path: { id } } })),
  onSettled: refresh,
});
const end = useMutation({
  mutationFn: async (id: string) =>
    unwrap(
      await api.POST("/api/v1/passes/{id}/withdraw", {
        params: { path: { id } },
        body: { why: "Withdrawn at the console" },
      }),
    ),
  onSettled: () => queries.invalidateQueries({ queryKey: ["passes"] }),
});
</script>

<template>
  <RouterLink v-if="id" to="/requests" class="inline-block py-1 text-[0.9rem] text-soft">All requests</RouterLink>
  <h1 data-testid="sentence">{{ sentence }}</h1>
  <StateNote
    v-if="!requests.data.value"
    :loading="requests.isPending.value"
    :error="requests.error.value"
    @retry="requests.refetch()"
  />
  <ul v-if="yours.length" class="mt-4 space-y-4" aria-label="Requests for you">
    <li v-for="r in yours" :key="r.id" class="sheet border-l-4 border-l-wait px-4 py-3.5" data-testid="request">
      <p class="text-[1.1rem]">{{ r.sentence }}</p>
      <p class="mt-1 text-[0.9rem] text-soft">
        <span v-if="r.waiting" class="font-semibold text-wait">Waits at a terminal now. </span>
        <template v-if="r.ticket">Ticket {{ r.ticket }}. </template>Asked {{ dayAndClock(r.asked, zone) }}; no answer is
        a no from {{ dayAndClock(r.expires, zone) }} on.
        <template v-for="a in r.answers" :key="a.by">
          {{ a.by }} has {{ a.yes ? "approved" : "refused" }} it.
        </template>
      </p>
      <AnswerForm :request="r" />
    </li>
  </ul>
  <template v-if="!id">
    <ProposalList />
    <h2 class="mb-2 mt-7">Ask for access</h2>
    <AskForm />
    <h2 class="mb-2 mt-7">Passes</h2>
    <ul v-if="good.length" class="sheet divide-y divide-line" aria-label="Passes">
      <li v-for="p in good" :key="p.id" class="flex flex-wrap items-baseline gap-x-4 px-4 py-2" data-testid="pass">
        <span>{{ p.sentence }}</span>
        <span class="text-soft">Approved by {{ p.approved_by.join(" and ") }}.</span>
        <button class="button ml-auto" :disabled="end.isPending.value" @click="end.mutate(p.id)">Withdraw</button>
      </li>
    </ul>
    <p v-else class="text-soft">Nothing that concerns you was approved and is good now.</p>
    <ProblemNote :text="end.error.value?.message ?? withdraw.error.value?.message" />
    <h2 class="mb-2 mt-7">While you are away</h2>
    <DeputyForm v-if="me" :me="me.person" :zone="zone" />
  </template>
  <template v-if="others.length">
    <h2 class="mb-2 mt-7">{{ id ? "The request" : "Others" }}</h2>
    <ul class="sheet divide-y divide-line" aria-label="Other requests">
      <li v-for="r in others" :key="r.id" class="flex flex-wrap items-baseline gap-x-4 px-4 py-2" data-testid="other">
        <span class="min-w-0 flex-1">{{ r.sentence }}</span>
        <span class="text-soft">{{ told(r) }}</span>
        <button
          v-if="r.state === 'open' && r.person === me?.person"
          class="button"
          :disabled="withdraw.isPending.value"
          @click="withdraw.mutate(r.id)"
        >
          Withdraw
        </button>
      </li>
    </ul>
  </template>
</template>

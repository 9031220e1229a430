<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap, type Proposal } from "../../api/client";
import { useMe } from "../../composables/useMe";
import { proven } from "../../composables/useProve";
import { ago } from "../../lib/time";
import CodeText from "../../ui/CodeText.vue";
import InvitationLink from "./InvitationLink.vue";
import ProblemNote from "../../ui/ProblemNote.vue";

/** What one administrator proposed and a second must agree to; nothing where nothing waits. */
const { data: me, readsAll, administers } = useMe();
const queries = useQueryClient();
const proposals = useQuery({
  queryKey: ["proposals"],
  queryFn: async () => unwrap(await api.GET("/api/v1/proposals")),
  enabled: readsAll,
});
const all = computed(() => proposals.data.value ?? []);
const done = ref<string>();
const refresh = () => queries.invalidateQueries();
const path = (p: Proposal) => ({ params: { path: { id: p.id } } });
const agree = useMutation({
  mutationFn: (p: Proposal) => proven(async () => unwrap(await api.POST("/api/v1/proposals/{id}/agree", path(p)))),
  onMutate: () => (done.value = undefined),
  onSuccess: (answer) => {
    done.value = answer.proposal.sentence;
    void refresh();
  },
});
const discard = useMutation({
  mutationFn: (p: Proposal) => proven(async () => unwrap(await api.DELETE("/api/v1/proposals/{id}", path(p)))),
  onSuccess: refresh,
});
const busy = computed(() => agree.isPending.value || discard.isPending.value);
const link = computed(() => agree.data.value?.link);
</script>

<template>
  <section v-if="all.length || done" aria-labelledby="proposals" class="mt-4">
    <h2 v-if="all.length" id="proposals" class="mb-2">
      {{ all.length === 1 ? "1 proposal waits" : `${all.length} proposals wait` }} for a second administrator
    </h2>
    <ul v-if="all.length" class="space-y-3" aria-label="Proposals">
      <li v-for="p in all" :key="p.id" class="sheet border-l-4 border-l-wait px-4 py-3" data-testid="proposal">
        <p><CodeText :text="p.sentence" /></p>
        <p class="mt-1 text-[0.9rem] text-soft">
          Proposed by {{ p.by }} {{ ago(p.at) }}; expires {{ p.expires.slice(0, 16).replace("T", " ") }} UTC.
          <template v-if="administers && p.by === me?.person">Another administrator must agree.</template>
        </p>
        <span v-if="administers" class="mt-2 flex gap-3">
          <button
            v-if="p.by !== me?.person"
            class="button"
            data-kind="main"
            data-testid="agree"
            :disabled="busy"
            @click="agree.mutate(p)"
          >
            Agree
          </button>
          <button class="button" data-testid="discard" :disabled="busy" @click="discard.mutate(p)">Discard</button>
        </span>
      </li>
    </ul>
    <p v-if="done" role="status" class="mt-3">Done: <CodeText :text="done" /></p>
    <InvitationLink v-if="link" :invitation="link" />
    <ProblemNote class="mt-3" :text="agree.error.value?.message ?? discard.error.value?.message" />
  </section>
</template>

<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import CasePanel from "../features/findings/CasePanel.vue";
import SuppressForm from "../features/findings/SuppressForm.vue";
import { capital, kindName } from "../features/findings/kinds";
import { dayAndClock } from "../lib/time";
import ProblemNote from "../ui/ProblemNote.vue";
import StateNote from "../ui/StateNote.vue";

const props = defineProps<{ id: string }>();
const { zone } = useNow();
const { administers } = useMe();
const queries = useQueryClient();
const finding = useQuery({
  queryKey: ["finding", props.id],
  queryFn: async () => unwrap(await api.GET("/api/v1/findings/{id}", { params: { path: { id: props.id } } })),
});
const note = ref("");
const review = useMutation({
  mutationFn: async () => {
    const body = { why: note.value };
    return unwrap(await api.POST("/api/v1/findings/{id}/review", { params: { path: { id: props.id } }, body }));
  },
  onSuccess: () => finding.refetch(),
});
</script>

<template>
  <StateNote
    v-if="!finding.data.value"
    :loading="finding.isPending.value"
    :error="finding.error.value"
    @retry="finding.refetch()"
  />
  <article v-else>
    <RouterLink to="/findings" class="inline-block py-1 text-[0.9rem] text-soft">All findings</RouterLink>
    <h1 class="max-w-4xl">{{ finding.data.value.sentence }}</h1>
    <div class="mt-4 grid gap-x-8 gap-y-5 lg:grid-cols-[minmax(0,1fr)_22rem]">
      <div class="min-w-0">
        <p v-if="finding.data.value.settled" class="border-l-4 border-l-line bg-sheet px-4 py-3" data-testid="settled">
          Settled by {{ finding.data.value.settled.by }} on {{ dayAndClock(finding.data.value.settled.at, zone) }}:
          {{ finding.data.value.settled.why }}
        </p>
        <div
          v-else
          class="border-l-4 px-4 py-3"
          :class="
            ['high', 'critical'].includes(finding.data.value.importance)
              ? 'border-l-viol bg-violbg'
              : 'border-l-edge bg-sheet'
          "
        >
          <p>
            <span
              class="font-semibold"
              :class="{ 'text-viol': ['high', 'critical'].includes(finding.data.value.importance) }"
              >{{ capital(finding.data.value.importance) }}:</span
            >
            {{ finding.data.value.reason }}.
          </p>
          <p class="mt-1">{{ finding.data.value.mend }}</p>
        </div>
        <form
          v-if="finding.data.value.kind === 'emergency-used' && !finding.data.value.settled"
          class="mt-4 flex flex-wrap items-end gap-3"
          @submit.prevent="review.mutate()"
        >
          <label class="min-w-64 flex-1"
            ><span class="label">What you found when you looked at it</span
            ><input v-model="note" class="field w-full" name="note" required maxlength="500"
          /></label>
          <button class="button" data-kind="main" :disabled="review.isPending.value">Close it</button>
          <ProblemNote class="w-full" :text="review.error.value?.message" />
        </form>
        <h2 class="mb-2 mt-6">Evidence</h2>
        <p v-if="!finding.data.value.lines.length" class="text-soft">
          No log shows it: the service saw it itself. The <RouterLink to="/log">event log</RouterLink> has the moment.
        </p>
        <div v-else class="sheet overflow-x-auto">
          <table class="w-full">
            <thead>
              <tr class="border-b border-line [&>th]:px-3 [&>th]:py-2">
                <th scope="col">File</th>
                <th scope="col" class="text-right!">Line</th>
                <th scope="col">Text</th>
              </tr>
            </thead>
            <tbody>
              <tr
                v-for="(l, i) in finding.data.value.lines"
                :key="i"
                class="border-b border-line align-top last:border-0 [&>td]:px-3 [&>td]:py-1.5"
                data-testid="evidence"
              >
                <td class="mono whitespace-nowrap">{{ l.file }}</td>
                <td class="mono text-right">{{ l.number }}</td>
                <td class="mono break-all">{{ l.text }}</td>
              </tr>
            </tbody>
          </table>
        </div>
        <p v-if="finding.data.value.count > finding.data.value.lines.length" class="mt-2 text-soft">
          It was seen {{ finding.data.value.count }} times; the first lines are kept.
        </p>
      </div>
      <div class="grid content-start gap-6">
        <CasePanel
          :finding="finding.data.value"
          :zone="zone"
          @changed="(f) => queries.setQueryData(['finding', id], f)"
        />
        <dl class="grid grid-cols-[6rem_1fr] gap-y-1 self-start [&>dt]:text-soft">
          <dt>Kind</dt>
          <dd>{{ kindName(finding.data.value.kind) }}</dd>
          <dt>Machine</dt>
          <dd v-if="!finding.data.value.machine">several, or any</dd>
          <dd v-else>
            <RouterLink :to="`/machines/${finding.data.value.machine}`">{{ finding.data.value.machine }}</RouterLink>,
            <RouterLink :to="{ path: '/sessions', query: { machine: finding.data.value.machine } }"
              >its sessions</RouterLink
            >
          </dd>
          <template v-if="finding.data.value.account">
            <dt>Account</dt>
            <dd>
              <code>{{ finding.data.value.account }}</code>
            </dd>
          </template>
          <dt>Person</dt>
          <dd>
            <RouterLink
              v-if="finding.data.value.person"
              :to="{ path: '/sessions', query: { person: finding.data.value.person } }"
              >{{ finding.data.value.person }}</RouterLink><span v-else>not known</span>
          </dd>
          <template v-if="finding.data.value.source">
            <dt>From</dt>
            <dd>
              <code>{{ finding.data.value.source }}</code>
            </dd>
          </template>
          <dt>First</dt>
          <dd>{{ dayAndClock(finding.data.value.first, zone) }}</dd>
          <dt>Last</dt>
          <dd>{{ dayAndClock(finding.data.value.last, zone) }}</dd>
          <dt>Seen</dt>
          <dd>{{ finding.data.value.count }} {{ finding.data.value.count === 1 ? "time" : "times" }}</dd>
          <template v-if="finding.data.value.session">
            <dt>Session</dt>
            <dd>
              <RouterLink
                :to="{
                  path: `/sessions/${finding.data.value.session}`,
                  query: finding.data.value.moment_ms != null ? { t: finding.data.value.moment_ms } : {},
                }"
                data-testid="to-moment"
                >{{
                  finding.data.value.moment_ms != null ? "Go to the moment in the recording" : "Show the session"
                }}</RouterLink
              >
            </dd>
          </template>
          <template v-if="finding.data.value.techniques.length">
            <dt>ATT&amp;CK</dt>
            <dd class="mono">{{ finding.data.value.techniques.join(", ") }}</dd>
          </template>
          <template v-if="finding.data.value.controls.length">
            <dt>Controls</dt>
            <dd class="text-[0.9rem]">
              <span v-for="c in finding.data.value.controls" :key="c" class="block">{{ c }}</span>
            </dd>
          </template>
        </dl>
        <div v-if="administers && finding.data.value.kind !== 'emergency-used'">
          <SuppressForm :finding="finding.data.value" />
        </div>
      </div>
    </div>
  </article>
</template>

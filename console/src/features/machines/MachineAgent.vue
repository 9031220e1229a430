<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap, type MachineDetail } from "../../api/client";
import { proven } from "../../composables/useProve";
import { ago, dayAndClock } from "../../lib/time";
import ProblemNote from "../../ui/ProblemNote.vue";
import CodeShown from "./CodeShown.vue";
import { words } from "../../lib/words";

/** The agent of a machine: how it stands, its code, what it may reach for others, and its end. */
const props = defineProps<{ detail: MachineDetail; zone: string; manages: boolean }>();
const queries = useQueryClient();
const allow = computed(() => ((props.detail.facts as { allow?: string[] } | null)?.allow ?? []).join(", "));
const log = computed(() => (props.detail.facts as { log?: string } | null)?.log ?? "");
const runsAs = computed(() => (props.detail.facts as { runs_as?: string } | null)?.runs_as ?? "");
const path = () => ({ path: { name: props.detail.machine.name } });
const refresh = () => queries.invalidateQueries({ queryKey: ["machines"] });
const issue = useMutation({
  mutationFn: () =>
    proven(async () =>
      unwrap(await api.POST("/api/v1/enrolment-codes", { body: { machine: props.detail.machine.name, labels: [] } })),
    ),
  onSuccess: refresh,
});
const why = ref("");
const revoking = ref(false);
const revoke = useMutation({
  mutationFn: () =>
    proven(async () =>
      unwrap(await api.POST("/api/v1/machines/{name}/agent/revoke", { params: path(), body: { why: why.value } })),
    ),
  onSuccess: () => {
    revoking.value = false;
    void refresh();
  },
});
const entries = ref<string | null>(null);
const relay = useMutation({
  mutationFn: () =>
    proven(async () =>
      unwrap(
        await api.PUT("/api/v1/machines/{name}/agent/relay", {
          params: path(),
          body: { entries: words(entries.value ?? "") },
        }),
      ),
    ),
  onSuccess: () => {
    entries.value = null;
    void refresh();
  },
});
</script>

<template>
  <section class="sheet px-4 py-3.5" aria-labelledby="agent">
    <div class="flex flex-wrap items-baseline gap-3">
      <h2 id="agent">Agent</h2>
      <span v-if="manages" class="ml-auto flex gap-3">
        <button class="button" data-testid="issue-code" :disabled="issue.isPending.value" @click="issue.mutate()">
          {{ detail.agent ? "Code for another agent" : "Issue an enrolment code" }}
        </button>
        <button v-if="detail.agent && !revoking" class="button" @click="revoking = true">Revoke</button>
      </span>
    </div>
    <CodeShown v-if="issue.data.value" class="mt-2" :issued="issue.data.value" :zone="zone" />
    <ProblemNote :text="issue.error.value?.message ?? revoke.error.value?.message ?? relay.error.value?.message" />
    <form v-if="revoking" class="mt-2 flex flex-wrap items-end gap-3" @submit.prevent="revoke.mutate()">
      <label class="min-w-60 flex-1"
        ><span class="label">Why? Every session through it ends at once.</span
        ><input v-model="why" class="field w-full" required maxlength="500" v-focus
      /></label>
      <button class="button" data-kind="main">Revoke it</button>
      <button type="button" class="button" @click="revoking = false">Cancel</button>
    </form>
    <dl v-if="detail.agent" class="mt-2 grid grid-cols-[8rem_1fr] gap-y-1">
      <dt class="text-soft">State</dt>
      <dd>
        {{ detail.agent.state }}{{ detail.agent.since ? ` since ${dayAndClock(detail.agent.since, zone)}` : ""
        }}{{ detail.agent.temporary ? ", for this once" : "" }}
      </dd>
      <dt class="text-soft">Comes from</dt>
      <dd class="mono">{{ detail.agent.last_from }}</dd>
      <dt class="text-soft">Version</dt>
      <dd>
        {{ detail.agent.version || "not known yet" }}<template v-if="detail.facts">, runs as {{ runsAs }}</template>
      </dd>
      <dt class="text-soft">Enrolled</dt>
      <dd>{{ ago(detail.agent.enrolled) }} with a code of {{ detail.agent.enrolled_by }}</dd>
      <template v-if="detail.facts">
        <dt class="text-soft">Connects to</dt>
        <dd class="mono [overflow-wrap:anywhere]">{{ allow }}</dd>
        <dt class="text-soft">Sends</dt>
        <dd>
          <template v-if="log === 'journal'">the journal's lines on sign-ins</template>
          <template v-else-if="log"
            >its log <span class="mono">{{ log }}</span></template
          >
          <span v-else class="text-soft">no log: what goes around Aerie there nobody can tell</span>
        </dd>
      </template>
      <dt class="text-soft">For others</dt>
      <dd>
        <form v-if="entries !== null" class="flex flex-wrap gap-3" @submit.prevent="relay.mutate()">
          <input
            v-model="entries"
            class="field mono min-w-60 flex-1"
            aria-label="What it may reach for other machines"
            placeholder="10.20.0.0/16:22"
            v-focus
          />
          <button class="button" data-kind="main">Save</button>
          <button type="button" class="button" @click="entries = null">Cancel</button>
        </form>
        <template v-else>
          <span :class="detail.agent.relay.length ? 'mono' : 'text-soft'">{{
            detail.agent.relay.join(", ") || "nothing"
          }}</span>
          <button v-if="manages" class="button ml-3" @click="entries = detail.agent.relay.join(' ')">Change</button>
        </template>
      </dd>
    </dl>
    <p v-else class="mt-2 text-soft">
      {{
        detail.machine.via === "agent"
          ? "It has none yet: issue a code, and enrol it on the machine. No port is opened for it."
          : "It needs none: it is reached another way."
      }}
    </p>
  </section>
</template>

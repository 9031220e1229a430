<script setup lang="ts">
import { useInfiniteQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap } from "../api/client";
import { useNow } from "../composables/useNow";
import { dayAndClock } from "../lib/time";
import MoreButton from "../ui/MoreButton.vue";
import StateNote from "../ui/StateNote.vue";

const { data: now, zone } = useNow();
const kind = ref("");
const KINDS = {
  "": "Every kind",
  "around-gateway": "Around the gateway",
  "outside-hours": "Outside the hours",
  "not-allowed": "Not allowed",
  "unmet-demand": "Demand not met",
  "unowned-account": "Nobody's account",
  guessed: "Guessed",
  "unknown-session": "Unknown session",
  "shared-key": "Key of several people",
  "unowned-key": "Nobody's key",
  "host-key-changed": "Another host key",
  "agent-cloned": "Copied agent",
  "credential-stuck": "Lost credential",
  "emergency-used": "Emergency",
  "key-added": "Key added by hand",
  "tracks-hidden": "Tracks hidden",
};
const list = useInfiniteQuery({
  queryKey: ["findings", "list", kind],
  initialPageParam: undefined as string | undefined,
  queryFn: async ({ pageParam }) =>
    unwrap(
      await api.GET("/api/v1/findings", {
        params: { query: { kind: kind.value || undefined, after: pageParam, limit: 50 } },
      }),
    ),
  getNextPageParam: (page) => page.next ?? undefined,
});
const findings = computed(() => list.data.value?.pages.flatMap((p) => p.items) ?? []);
const critical = computed(() => findings.value.filter((f) => f.importance === "critical" && !f.settled).length);
</script>

<template>
  <h1>
    <template v-if="now?.findings">
      There {{ now.findings === 1 ? "is 1 open finding" : `are ${now.findings} open findings`
      }}<template v-if="critical && !kind"
        >, <span class="text-viol">{{ critical }} of them critical</span></template
      >.
    </template>
    <template v-else>Findings</template>
  </h1>
  <label class="mb-3 mt-4 flex items-center gap-2">
    <span class="text-soft">Show</span>
    <select v-model="kind" class="field">
      <option v-for="(name, value) in KINDS" :key="value" :value="value">{{ name }}</option>
    </select>
  </label>
  <ul v-if="findings.length" class="sheet divide-y divide-line">
    <li
      v-for="f in findings"
      :key="f.id"
      class="grid grid-cols-[5.5rem_1fr_auto] gap-x-4 px-4 py-3"
      data-testid="finding"
    >
      <span v-if="f.settled" class="text-soft">Settled</span>
      <span v-else class="font-semibold" :class="f.importance === 'medium' ? 'text-ink' : 'text-viol'">{{
        f.importance[0]!.toUpperCase() + f.importance.slice(1)
      }}</span>
      <div>
        <RouterLink :to="`/findings/${f.id}`">{{ f.sentence }}</RouterLink>
        <p class="mt-0.5 text-[0.9rem] text-soft">
          {{ KINDS[f.kind as keyof typeof KINDS] ?? f.kind
          }}<template v-if="f.lines.length">
            · {{ f.lines.length }} {{ f.lines.length === 1 ? "line" : "lines" }} of evidence</template
          ><template v-if="f.settled"> · settled by {{ f.settled.by }}: {{ f.settled.why }}</template
          ><template v-if="f.session">
            ·
            <RouterLink
              :to="{ path: `/sessions/${f.session}`, query: f.moment_ms != null ? { t: f.moment_ms } : {} }"
              >{{ f.moment_ms != null ? "the moment in the recording" : "the session" }}</RouterLink
            ></template
          >
        </p>
      </div>
      <time class="whitespace-nowrap text-soft">{{ dayAndClock(f.last, zone) }}</time>
    </li>
  </ul>
  <StateNote
    v-else
    :loading="list.isPending.value"
    :error="list.error.value"
    :empty="
      kind
        ? 'There is no finding of this kind.'
        : 'There are no findings. Hold a machine\'s log against the rules with `aerie audit scan FILE`.'
    "
    @retry="list.refetch()"
  />
  <MoreButton
    v-if="list.hasNextPage.value"
    :loading="list.isFetchingNextPage.value"
    :shown="findings.length"
    noun="findings"
    @more="list.fetchNextPage()"
  />
</template>

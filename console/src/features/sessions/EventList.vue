<script setup lang="ts">
import { computed } from "vue";
import type { Finding, LogEvent } from "../../api/client";
import { clockSeconds } from "../../lib/time";
import CodeText from "../../ui/CodeText.vue";

/** What happened in a session, in order, with its findings among it. */
const props = defineProps<{ events: LogEvent[]; findings: Finding[]; zone: string }>();
defineEmits<{ go: [ms: number] }>();

interface Entry {
  key: string;
  at: number;
  /** Of two at one instant the one that was logged first. */
  seq: number;
  text: string;
  finding?: Finding;
}

const entries = computed<Entry[]>(() =>
  [
    ...props.events
      .filter((e) => e.kind !== "finding-raised" && e.kind !== "recording-read")
      .map((e) => ({ key: `e${e.seq}`, seq: e.seq, at: Date.parse(e.at), text: e.sentence })),
    ...props.findings.map((f) => ({ key: f.id, seq: Infinity, at: Date.parse(f.last), text: f.sentence, finding: f })),
  ].sort((a, b) => a.at - b.at || a.seq - b.seq),
);
</script>

<template>
  <ol class="sheet divide-y divide-line">
    <li
      v-for="e in entries"
      :key="e.key"
      class="flex gap-3.5 px-3 py-2"
      :class="{ 'border-l-4 border-l-viol': e.finding }"
    >
      <time class="mono shrink-0 text-soft">{{ clockSeconds(e.at, zone) }}</time>
      <span>
        <template v-if="e.finding">
          <RouterLink :to="`/findings/${e.finding.id}`" class="font-semibold text-viol">Finding</RouterLink>
          {{ " " + e.text }}
          <button
            v-if="e.finding.moment_ms != null"
            class="cursor-pointer underline underline-offset-3"
            data-testid="go-to-moment"
            @click="$emit('go', e.finding.moment_ms)"
          >
            Go there
          </button>
        </template>
        <CodeText v-else :text="e.text" />
      </span>
    </li>
  </ol>
</template>

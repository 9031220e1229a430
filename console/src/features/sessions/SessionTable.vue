<script setup lang="ts">
import type { Session } from "../../api/client";
import { clock, dayAndClock, duration } from "../../lib/time";

/** Sessions as a table: who, where and what in one line, numbers to the right. */
const props = defineProps<{ sessions: Session[]; zone: string; canEnd?: boolean; brief?: boolean }>();
defineEmits<{ end: [session: Session] }>();

/** How far a live session is from its limits: the nearer one, and both on demand. */
function left(s: Session): string {
  const ends = s.ends_by && Date.parse(s.ends_by);
  const idle = s.idle_until && Date.parse(s.idle_until);
  if (!ends && !idle) return "no limit";
  return idle && (!ends || idle < ends) ? `until ${at(s.idle_until!)} if idle` : `until ${at(s.ends_by!)}`;
}

function limits(s: Session): string {
  const idle = s.idle_until ? `Ends at ${at(s.idle_until)} if nothing is typed` : "Pauses are not limited";
  return `${idle}; ${s.ends_by ? `at ${at(s.ends_by)} at the latest` : "nothing limits its length"}.`;
}

const at = (instant: string) => clock(instant, props.zone);

const USES: Record<string, string> = {
  shell: "shell",
  exec: "commands",
  upload: "upload",
  download: "download",
  forward: "ports",
};
</script>

<template>
  <div class="sheet overflow-x-auto">
    <table class="w-full">
      <thead>
        <tr class="border-b border-line [&>th]:px-3 [&>th]:py-2">
          <th scope="col">Session</th>
          <th scope="col">Began</th>
          <th scope="col" class="text-right!">For</th>
          <th scope="col">Used for</th>
          <th v-if="!brief" scope="col">Proved</th>
          <th scope="col">Recording</th>
          <th scope="col">State</th>
          <th scope="col" class="text-right!">Findings</th>
          <th v-if="canEnd" scope="col"><span class="sr-only">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="s in sessions"
          :key="s.id"
          class="border-b border-line align-top last:border-0 [&>td]:px-3 [&>td]:py-2"
          data-testid="session"
        >
          <td class="whitespace-nowrap">
            <RouterLink :to="`/sessions/${s.id}`">{{ s.person_name }} on {{ s.machine }}</RouterLink>
            <div class="text-[0.85rem] text-soft">
              as <code>{{ s.account }}</code> from <code>{{ s.source }}</code>
            </div>
          </td>
          <td class="whitespace-nowrap">{{ dayAndClock(s.began, zone) }}</td>
          <td class="whitespace-nowrap text-right">{{ duration(s.seconds) }}</td>
          <td>{{ s.uses.map((u) => USES[u] ?? u).join(", ") || "nothing yet" }}</td>
          <td v-if="!brief">{{ s.factors.join(", ") }}</td>
          <td>{{ !s.recorded ? "none" : s.ended ? (s.digest ? "kept" : "broken off") : "running" }}</td>
          <td>
            <template v-if="!s.ended">
              <span class="font-semibold text-live">live</span>
              <div class="whitespace-nowrap text-[0.85rem] text-soft" :title="limits(s)">{{ left(s) }}</div>
            </template>
            <span v-else>{{ s.end_reason?.replace(/^because /, "") }}</span>
          </td>
          <td class="text-right">
            <RouterLink v-if="s.findings" :to="`/sessions/${s.id}`" class="font-semibold text-viol">{{
              s.findings
            }}</RouterLink>
            <span v-else class="text-soft">0</span>
          </td>
          <td v-if="canEnd" class="text-right">
            <button v-if="!s.ended" class="button" @click="$emit('end', s)">End</button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

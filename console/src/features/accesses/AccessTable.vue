<script setup lang="ts">
import { ref } from "vue";
import type { Access } from "../../api/client";
import { dayAndClock, duration } from "../../lib/time";

/** Accesses as a table; the lines of those around Aerie open below them. */
defineProps<{ accesses: Access[]; zone: string }>();
const open = ref<string>("");
</script>

<template>
  <div class="sheet overflow-x-auto">
    <table class="w-full">
      <thead>
        <tr class="border-b border-line [&>th]:px-3 [&>th]:py-2">
          <th scope="col">Access</th>
          <th scope="col">Began</th>
          <th scope="col">Ended</th>
          <th scope="col" class="text-right!">For</th>
          <th scope="col">From</th>
          <th scope="col">Proved</th>
          <th scope="col">Way</th>
          <th scope="col">Evidence</th>
        </tr>
      </thead>
      <tbody v-for="a in accesses" :key="a.id" class="border-b border-line last:border-0" data-testid="access">
        <tr class="align-top [&>td]:px-3 [&>td]:py-1.5">
          <td>
            <RouterLink v-if="a.session" :to="`/sessions/${a.session}`"
              >{{ a.person_name }} on {{ a.machine }}</RouterLink
            >
            <template v-else>{{ a.person_name ?? "Somebody" }} on {{ a.machine }}</template>
            <span class="text-soft"> as </span><code>{{ a.account }}</code>
          </td>
          <td class="whitespace-nowrap">{{ dayAndClock(a.began, zone) }}</td>
          <td class="whitespace-nowrap">
            {{ a.ended ? dayAndClock(a.ended, zone) : "" }}<span v-if="!a.ended" class="text-soft">not known</span>
          </td>
          <td class="whitespace-nowrap text-right">{{ a.seconds != null ? duration(a.seconds) : "" }}</td>
          <td>
            <code>{{ a.source }}</code>
          </td>
          <td>{{ a.method }}</td>
          <td class="whitespace-nowrap">
            <template v-if="a.session">through Aerie</template>
            <span v-else class="font-semibold text-viol">around it</span>
            <span v-if="a.uses.length" class="block text-[0.85rem] text-soft">{{ a.uses.join(", ") }}</span>
          </td>
          <td class="whitespace-nowrap">
            <button
              v-if="a.lines.length"
              class="underline decoration-edge"
              :aria-expanded="open === a.id"
              @click="open = open === a.id ? '' : a.id"
            >
              {{ a.lines.length }} {{ a.lines.length === 1 ? "line" : "lines" }}
            </button>
            <span v-else class="text-soft">session</span>
          </td>
        </tr>
        <tr v-if="open === a.id">
          <td colspan="8" class="px-3 pb-3">
            <p v-for="l in a.lines" :key="`${l.file}${l.offset}`" class="mono text-[12.5px] wrap-anywhere">
              <span class="text-soft">{{ l.file }}:{{ l.number }}</span> {{ l.text }}
            </p>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

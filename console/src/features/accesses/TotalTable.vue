<script setup lang="ts">
import { dayAndClock, duration } from "../../lib/time";
import type { AccessTotal } from "../../api/client";

/** Totals of people, machines, addresses, accounts, rules or operating systems; a name that can be looked at closer emits `pick`. */
defineProps<{ totals: AccessTotal[]; heading: string; zone: string; pickable: boolean }>();
defineEmits<{ pick: [name: string] }>();
</script>

<template>
  <div class="sheet overflow-x-auto">
    <table class="w-full">
      <thead>
        <tr class="border-b border-line [&>th]:px-3 [&>th]:py-2">
          <th scope="col">{{ heading }}</th>
          <th scope="col" class="text-right!">Accesses</th>
          <th scope="col" class="text-right!">Around Aerie</th>
          <th scope="col" class="text-right!">Together</th>
          <th scope="col" class="text-right!">Average</th>
          <th scope="col" class="text-right!">Longest</th>
          <th scope="col">First</th>
          <th scope="col">Last</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="t in totals"
          :key="t.name"
          class="border-b border-line last:border-0 [&>td]:whitespace-nowrap [&>td]:px-3 [&>td]:py-1.5"
          data-testid="total"
        >
          <td class="max-w-80 truncate">
            <button v-if="pickable && t.name" class="underline decoration-edge" @click="$emit('pick', t.name)">
              {{ t.shown }}
            </button>
            <template v-else>{{ t.shown }}</template>
          </td>
          <td class="text-right">{{ t.count }}</td>
          <td class="text-right" :class="t.around ? 'font-semibold text-viol' : 'text-soft'">{{ t.around }}</td>
          <td class="text-right">{{ duration(t.seconds) }}</td>
          <td class="text-right">{{ duration(t.count ? Math.round(t.seconds / t.count) : 0) }}</td>
          <td class="text-right">{{ duration(t.longest) }}</td>
          <td>{{ dayAndClock(t.first, zone) }}</td>
          <td>{{ dayAndClock(t.last, zone) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

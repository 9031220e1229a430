<script setup lang="ts">
import { ref } from "vue";
import type { Permission, Reach } from "../../api/client";
import WeekStrip from "./WeekStrip.vue";

/** Groups of people and machines with the same permissions. */
defineProps<{ reach: Reach; zone: string }>();
defineEmits<{ person: [name: string]; machine: [name: string] }>();

const MOST = 6;
const SHOWN = 100;
const open = ref(new Set<string>());
const some = (names: string[], key: string) => (open.value.has(key) ? names : names.slice(0, MOST));
const account = (p: Permission) => p.account ?? "any other account";
const what = (p: Permission) => p.capabilities.join(", ") + (p.to ? ` to ${p.to}` : "");
const demands = (p: Permission) => p.demands.map((d) => d.join(", ")).filter(Boolean);
</script>

<template>
  <ul class="space-y-3">
    <li v-for="(e, at) in reach.entries.slice(0, SHOWN)" :key="at" class="sheet px-4 py-2.5" data-testid="reach-entry">
      <div class="mb-1.5 grid gap-x-6 sm:grid-cols-2">
        <p
          v-for="[names, kind] in [
            [e.people, 'person'],
            [e.machines, 'machine'],
          ] as const"
          :key="kind"
        >
          <template v-for="(n, i) in some(names, `${at}${kind}`)" :key="n">
            <template v-if="i">, </template>
            <button
              class="cursor-pointer font-semibold underline decoration-edge underline-offset-[3px]"
              @click="kind === 'person' ? $emit('person', n) : $emit('machine', n)"
            >
              {{ n }}
            </button>
          </template>
          <button
            v-if="names.length > MOST && !open.has(`${at}${kind}`)"
            class="ml-1 cursor-pointer text-soft underline"
            @click="open = new Set(open).add(`${at}${kind}`)"
          >
            and {{ names.length - MOST }} more
          </button>
        </p>
      </div>
      <table class="w-full text-[0.93rem]">
        <thead class="sr-only">
          <tr>
            <th scope="col">Capabilities</th>
            <th scope="col">When</th>
            <th scope="col">With</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(p, i) in e.permissions" :key="i" class="border-t border-line align-top [&>td]:py-1.5 [&>td]:pr-4">
            <td class="w-[24%]">
              {{ what(p) }} <span class="whitespace-nowrap text-soft">as {{ account(p) }}</span>
            </td>
            <td class="w-[38%]">
              <WeekStrip :from="Date.parse(reach.from)" :to="Date.parse(reach.to)" :spans="p.spans" :zone="zone" />
              <span class="text-[0.86rem] text-soft"
                >{{ p.when }}<template v-if="p.from !== 'anywhere'">, from {{ p.from }}</template></span
              >
            </td>
            <td class="text-soft">
              <template v-if="demands(p).length && demands(p).length === p.demands.length"
                >with {{ demands(p).join("; or with ") }}</template
              >
              <template v-else>with nothing more</template>
            </td>
          </tr>
        </tbody>
      </table>
    </li>
  </ul>
  <p v-if="reach.entries.length > SHOWN" class="mt-3 text-soft">
    The {{ SHOWN }} largest of {{ reach.entries.length }} groups are shown: choose a person, a machine or a capability,
    or take the CSV.
  </p>
</template>

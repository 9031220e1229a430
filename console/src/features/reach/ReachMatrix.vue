<script setup lang="ts">
import type { Matrix } from "../../api/client";

/** How much access there is between groups of people and of machines: the darker, the more. */
defineProps<{ matrix: Matrix }>();
defineEmits<{ choose: [row: string, column: string] }>();

const share = (c: Matrix["cells"][0][0]) => (c.of ? c.pairs / c.of : 0);
const told = (c: Matrix["cells"][0][0]) =>
  !c.pairs ? "–" : c.pairs === c.of ? "all" : `${c.pairs.toLocaleString("en")}/${c.of.toLocaleString("en")}`;
/** Steps of ground, so that the figures on it stay readable: none, some, half, nearly all. */
const ground = (c: Matrix["cells"][0][0]) => {
  const s = share(c);
  return s === 0 ? "none" : s < 0.34 ? "some" : s < 0.99 ? "much" : "all";
};
</script>

<template>
  <div class="sheet overflow-auto p-2" tabindex="0" role="region" aria-label="Matrix">
    <table class="border-separate border-spacing-[2px] text-[0.9rem]">
      <caption class="sr-only">
        {{
          matrix.sentence
        }}
      </caption>
      <thead>
        <tr>
          <td></td>
          <th
            v-for="c in matrix.columns"
            :key="c.selector"
            scope="col"
            class="min-w-[5.5rem] max-w-36 px-2 pb-1 text-right align-bottom"
          >
            <span class="block truncate font-semibold text-ink" :title="c.name">{{ c.name }}</span>
            <span>{{ c.count.toLocaleString("en") }}</span>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(r, i) in matrix.rows" :key="r.selector">
          <th scope="row" class="max-w-52 whitespace-nowrap pr-3">
            <span class="inline-block max-w-40 truncate align-bottom font-semibold text-ink" :title="r.name">{{
              r.name
            }}</span>
            {{ r.count.toLocaleString("en") }}
          </th>
          <td v-for="(c, j) in matrix.cells[i]" :key="matrix.columns[j]!.selector" class="p-0">
            <button
              class="cell block h-9 w-full min-w-[5.5rem] cursor-pointer rounded-[3px] px-2 text-right"
              :data-ground="ground(c)"
              :title="c.pairs ? `${c.pairs} of ${c.of} pairs: ${c.capabilities.join(', ')}` : 'No access'"
              :aria-label="`${r.name} on ${matrix.columns[j]!.name}: ${told(c)} pairs`"
              data-testid="cell"
              @click="$emit('choose', r.selector, matrix.columns[j]!.selector)"
            >
              {{ told(c) }}
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.cell {
  background: var(--paper);
  color: var(--soft);
}
.cell[data-ground="some"] {
  background: color-mix(in srgb, var(--rec) 28%, var(--sheet));
  color: var(--ink);
}
.cell[data-ground="much"] {
  background: color-mix(in srgb, var(--rec) 60%, var(--sheet));
  color: var(--ink);
}
.cell[data-ground="all"] {
  background: var(--rec);
  color: var(--ink);
  font-weight: 650;
}
</style>

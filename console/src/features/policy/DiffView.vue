<script setup lang="ts">
import { computed } from "vue";
import { around, diff } from "../../lib/diff";

/** What one text has that the other has not. */
const props = defineProps<{ before: string; after: string }>();
const lines = computed(() => around(diff(props.before, props.after)));
</script>

<template>
  <div class="sheet overflow-x-auto py-2" tabindex="0" role="region" aria-label="Differences">
    <p v-if="!lines.length" class="px-4 py-2 text-soft">Nothing is different.</p>
    <table v-else class="mono w-full text-[12.5px] leading-[19px]">
      <caption class="sr-only">
        Differences, line by line
      </caption>
      <tbody>
        <tr
          v-for="(l, i) in lines"
          :key="i"
          :class="l?.kind === 'added' ? 'bg-open' : l?.kind === 'removed' ? 'bg-waitbg' : ''"
        >
          <td class="w-12 select-none px-2 text-right align-top text-soft">
            {{ l && l.kind !== "removed" ? l.line : "" }}
          </td>
          <td class="w-5 select-none align-top font-bold" :aria-label="l?.kind">
            {{ l ? { added: "+", removed: "−", same: "" }[l.kind] : "" }}
          </td>
          <td class="whitespace-pre pr-4" :class="{ 'text-soft': !l }">{{ l ? l.text : "…" }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

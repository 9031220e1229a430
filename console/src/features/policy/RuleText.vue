<script setup lang="ts">
import { computed, ref } from "vue";
import type { Diagnostic } from "../../api/client";

/** The document as text, with line numbers, and what is wrong beside the line and below. */
const props = defineProps<{ text: string; diagnostics: Diagnostic[]; readonly?: boolean; label: string }>();
const emit = defineEmits<{ change: [text: string] }>();

const area = ref<HTMLTextAreaElement>();
const gutter = ref<HTMLElement>();
const lines = computed(() => props.text.split("\n").length);
const marked = computed(() => {
  const found = new Map<number, Diagnostic>();
  for (const d of props.diagnostics) if (d.severity === "error" || !found.has(d.line)) found.set(d.line, d);
  return found;
});

function follow() {
  if (gutter.value && area.value) gutter.value.scrollTop = area.value.scrollTop;
}

/** Shows a line, and puts the cursor at its column. */
function show(line: number, column = 1) {
  const field = area.value;
  if (!field) return;
  const before = props.text.split("\n").slice(0, line - 1);
  const at = before.reduce((n, l) => n + l.length + 1, 0) + column - 1;
  field.focus();
  field.setSelectionRange(at, at);
  const height = field.scrollHeight / Math.max(1, lines.value);
  field.scrollTop = Math.max(0, (line - 4) * height);
  follow();
}
defineExpose({ show });
</script>

<template>
  <div class="sheet flex min-h-0 flex-col overflow-hidden">
    <div class="flex min-h-0 grow">
      <div
        ref="gutter"
        aria-hidden="true"
        class="mono w-11 shrink-0 overflow-hidden border-r border-line py-2 pr-2 text-right text-[12.5px] leading-[19px] text-soft"
      >
        <div
          v-for="n in lines"
          :key="n"
          :title="marked.get(n)?.message"
          :class="
            marked.has(n)
              ? marked.get(n)!.severity === 'error'
                ? 'bg-violbg font-bold text-viol'
                : 'bg-waitbg font-bold text-wait'
              : ''
          "
        >
          {{ n }}
        </div>
      </div>
      <textarea
        ref="area"
        class="mono block w-full grow resize-none bg-transparent px-2.5 py-2 text-[12.5px] leading-[19px] focus-visible:outline-offset-[-2px]"
        :value="text"
        :readonly="readonly"
        :aria-label="label"
        wrap="off"
        spellcheck="false"
        autocapitalize="off"
        data-testid="rules-text"
        @input="emit('change', ($event.target as HTMLTextAreaElement).value)"
        @scroll="follow"
      ></textarea>
    </div>
    <ul
      v-if="diagnostics.length"
      class="max-h-48 shrink-0 divide-y divide-line overflow-auto border-t border-line"
      aria-label="Problems"
    >
      <li
        v-for="d in diagnostics"
        :key="d.code + d.line + d.column + d.message"
        class="px-3 py-1.5 text-[0.88rem]"
        data-testid="problem"
      >
        <button class="cursor-pointer text-left" @click="show(d.line, d.column)">
          <span class="mono text-soft">{{ d.line }}:{{ d.column }}</span>
          <span class="ml-2 font-semibold" :class="d.severity === 'error' ? 'text-viol' : 'text-wait'">{{
            d.severity === "error" ? "Error" : "Warning"
          }}</span>
          <span class="ml-2 [overflow-wrap:anywhere]">{{ d.message }}</span>
          <span v-if="d.help" class="ml-1 text-soft">({{ d.help }})</span>
        </button>
      </li>
    </ul>
  </div>
</template>

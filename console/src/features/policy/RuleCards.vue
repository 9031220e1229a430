<script setup lang="ts">
import type { Diagnostic, RuleCard } from "../../api/client";

/** Rules as sentences, in the order of the document. */
const props = defineProps<{ rules: RuleCard[]; diagnostics?: Diagnostic[]; editable?: boolean }>();
defineEmits<{ edit: [rule: RuleCard]; line: [line: number] }>();

const WORDS: Record<string, string> = { allow: "Allow", forbid: "Forbid", require: "Require", never: "Never" };

/** Problems of a rule: those between its line and the next rule's. */
function problems(at: number) {
  const [from, to] = [props.rules[at]!.line, props.rules[at + 1]?.line ?? Infinity];
  return (props.diagnostics ?? []).filter((d) => d.line >= from && d.line < to);
}
const count = (n: number, one: string, many: string) => (n === 1 ? `1 ${one}` : `${n.toLocaleString("en")} ${many}`);
</script>

<template>
  <ol class="sheet divide-y divide-line">
    <li
      v-for="(rule, at) in rules"
      :key="rule.name"
      class="px-3.5 py-2.5"
      data-testid="rule"
      :data-effect="rule.effect"
    >
      <div class="flex items-baseline gap-2">
        <span
          class="w-[4.2rem] shrink-0 text-[0.85rem] font-semibold"
          :class="rule.effect === 'allow' ? 'text-accent' : 'text-ink'"
          >{{ WORDS[rule.effect] }}</span
        >
        <span class="mono min-w-0 grow truncate font-semibold" :title="rule.name">{{ rule.name }}</span>
        <button
          v-if="editable"
          class="shrink-0 cursor-pointer text-[0.85rem] underline"
          :aria-label="`Change ${rule.name}`"
          @click="$emit('edit', rule)"
        >
          Change
        </button>
        <button
          class="mono shrink-0 cursor-pointer text-[0.8rem] text-soft hover:text-ink"
          :aria-label="`Line ${rule.line}, ${rule.name}`"
          @click="$emit('line', rule.line)"
        >
          {{ rule.line }}
        </button>
      </div>
      <p class="mt-0.5 text-[0.92rem]">{{ rule.sentence }}</p>
      <p v-if="rule.note" class="text-[0.88rem] italic text-soft">{{ rule.note }}</p>
      <p class="text-[0.84rem] text-soft">
        {{ count(rule.people, "person", "people") }} · {{ count(rule.machines, "machine", "machines") }}
      </p>
      <p
        v-for="d in problems(at)"
        :key="d.code + d.line + d.column"
        class="mt-1 border-l-[3px] pl-2 text-[0.86rem]"
        :class="d.severity === 'error' ? 'border-viol text-viol' : 'border-edge text-soft'"
      >
        {{ d.severity === "error" ? "Error" : "Beware" }}: {{ d.message }}
      </p>
    </li>
  </ol>
</template>

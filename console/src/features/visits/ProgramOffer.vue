<script setup lang="ts">
import { ref } from "vue";

/** How to let whoever helps click and type as well: by a program that is fetched, runs for this visit, and is gone. */
defineProps<{ helper: string; line: string }>();
defineEmits<{ want: [] }>();
const copied = ref(false);

async function copy(line: string) {
  await navigator.clipboard.writeText(line);
  copied.value = true;
}
</script>

<template>
  <details class="border-t border-line pt-3">
    <summary class="cursor-pointer py-1 font-semibold" data-testid="program-offer">
      {{ helper }} shall click and type here as well
    </summary>
    <div class="mt-2 flex flex-col gap-2">
      <p>
        Start a small program in a terminal on this computer. It shows your whole screen, and {{ helper }} asks you here
        before using keyboard and mouse. It runs for this visit alone and removes itself.
      </p>
      <button v-if="!line" class="button self-start py-2!" data-testid="want-program" @click="$emit('want')">
        Show the line to copy
      </button>
      <template v-else>
        <pre
          class="mono max-h-40 overflow-auto whitespace-pre-wrap rounded border border-line bg-paper p-2 text-[0.85rem] [overflow-wrap:anywhere]"
          tabindex="0"
          data-testid="program-line"
          >{{ line }}</pre>
        <div class="flex items-center gap-3">
          <button class="button py-2!" data-kind="main" @click="copy(line)">{{ copied ? "Copied" : "Copy" }}</button>
          <span class="text-[0.9rem] text-soft">Good for ten minutes, once, on Linux.</span>
        </div>
      </template>
    </div>
  </details>
</template>

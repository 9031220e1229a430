<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { computed } from "vue";
import { failure, type Visit } from "../../api/client";
import { size } from "../../lib/size";
import FileButton from "../../ui/FileButton.vue";
import ProblemNote from "../../ui/ProblemNote.vue";
import { LARGEST_FILE } from "./files";

/** Files of a visit, for whoever helps: given to the person, and taken from them. */
const props = defineProps<{ visit: Visit; mine: boolean }>();
const emit = defineEmits<{ changed: [] }>();
const path = computed(() => `/api/v1/visits/${encodeURIComponent(props.visit.id)}/files`);
const files = computed(() => props.visit.files ?? []);
const open = computed(() => props.mine && !props.visit.ended && (props.visit.agreed?.length ?? 0) > 0);

const give = useMutation({
  mutationFn: async (file: File) => {
    if (file.size > LARGEST_FILE) throw new Error("A file has at most 16 MiB.");
    const answer = await fetch(`${path.value}?name=${encodeURIComponent(file.name)}`, {
      method: "POST",
      headers: { "content-type": "application/octet-stream" },
      body: file,
    });
    if (!answer.ok) throw await failure(answer);
  },
  onSuccess: () => emit("changed"),
});
const states: Record<string, string> = {
  offered: "waits to be taken",
  taken: "taken",
  refused: "not wanted",
  lost: "nobody took it",
};
/** What may be fetched: from the person, until the visit is closed. */
const fetchable = (way: string, state: string) =>
  props.mine && !props.visit.closed && way === "from-person" && (state === "offered" || state === "taken");
</script>

<template>
  <section v-if="files.length || open" class="mt-4" aria-labelledby="visit-files">
    <h2 id="visit-files" class="mb-2">Files</h2>
    <ul v-if="files.length" class="sheet divide-y divide-line" data-testid="visit-files">
      <li v-for="f in files" :key="f.id" class="flex flex-wrap items-center gap-x-4 gap-y-1 px-3 py-1.5">
        <span class="w-24 shrink-0 text-soft">{{ f.way === "to-person" ? "given" : "from them" }}</span>
        <span class="min-w-0 grow [overflow-wrap:anywhere]" :title="`SHA-256 ${f.sha256}`">{{ f.name }}</span>
        <span class="tabular-nums text-soft">{{ size(f.bytes) }}</span>
        <a
          v-if="fetchable(f.way, f.state)"
          class="button no-underline!"
          :href="`${path}/${f.id}`"
          download
          @click="emit('changed')"
          >Take it</a
        >
        <span :class="f.state === 'offered' ? 'text-wait' : 'text-soft'">{{ states[f.state] ?? f.state }}</span>
      </li>
    </ul>
    <FileButton v-if="open" class="mt-3" name="give" :disabled="give.isPending.value" @chosen="give.mutate($event)">
      Give {{ visit.person || "them" }} a file
    </FileButton>
    <ProblemNote class="mt-2" :text="give.error.value?.message" />
  </section>
</template>

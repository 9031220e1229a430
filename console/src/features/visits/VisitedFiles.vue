<script setup lang="ts">
import { computed, ref } from "vue";
import type { VisitPass } from "../../api/client";
import { failure } from "../../api/client";
import { saveAs } from "../../lib/save";
import { size } from "../../lib/size";
import FileButton from "../../ui/FileButton.vue";
import ProblemNote from "../../ui/ProblemNote.vue";
import { LARGEST_FILE, type VisitFile } from "./files";

/** Files that whoever helps gave, to be taken or not, and what the person gives them. */
const props = defineProps<{ pass: VisitPass; helper: string; files: VisitFile[]; takes: boolean }>();
const emit = defineEmits<{ refuse: [id: string] }>();
const trouble = ref("");
const busy = ref(false);
const got = computed(() => props.files.filter((f) => f.way === "to-person"));
const gave = computed(() => props.files.filter((f) => f.way === "from-person"));
const path = computed(() => `/api/v1/visits/${encodeURIComponent(props.pass.visit)}/page/files`);

async function attempt(what: () => Promise<void>) {
  busy.value = true;
  trouble.value = "";
  try {
    await what();
  } catch (why) {
    trouble.value = why instanceof Error ? why.message : String(why);
  } finally {
    busy.value = false;
  }
}
const call = async (url: string, how: RequestInit) => {
  const answer = await fetch(url, { ...how, headers: { "visit-pass": props.pass.token } });
  if (!answer.ok) throw await failure(answer);
  return answer;
};
const take = (f: VisitFile) =>
  attempt(async () => saveAs(await (await call(`${path.value}/${encodeURIComponent(f.id)}`, {})).blob(), f.name));
const give = (file: File) =>
  attempt(async () => {
    if (file.size > LARGEST_FILE) throw new Error("A file has at most 16 MiB.");
    await call(`${path.value}?name=${encodeURIComponent(file.name)}`, { method: "POST", body: file });
  });
</script>

<template>
  <section
    v-if="takes || files.length"
    class="flex flex-col gap-2 border-t border-line pt-3"
    aria-labelledby="visited-files"
  >
    <h3 id="visited-files" class="font-semibold">Files</h3>
    <ul v-if="files.length" class="flex flex-col gap-2" aria-live="polite">
      <li v-for="f in got" :key="f.id" class="flex flex-wrap items-center gap-3" data-testid="offered-file">
        <span class="grow [overflow-wrap:anywhere]"
          ><b>{{ f.name }}</b> <span class="text-soft">({{ size(f.bytes) }}) from {{ helper }}</span></span
        >
        <template v-if="f.state === 'offered'">
          <button class="button py-2!" data-kind="main" data-testid="take-file" :disabled="busy" @click="take(f)">
            Save it
          </button>
          <button class="button py-2!" data-testid="refuse-file" @click="emit('refuse', f.id)">No</button>
        </template>
        <span v-else class="text-soft">{{ f.state === "taken" ? "saved" : "refused" }}</span>
      </li>
      <li v-for="f in gave" :key="f.id" class="flex flex-wrap gap-3">
        <span class="grow [overflow-wrap:anywhere]"
          ><b>{{ f.name }}</b> <span class="text-soft">({{ size(f.bytes) }}) for {{ helper }}</span></span
        >
        <span class="text-soft">{{ f.state === "taken" ? "they have it" : "given" }}</span>
      </li>
    </ul>
    <FileButton v-if="takes" name="give" :disabled="busy" @chosen="give">Give {{ helper }} a file</FileButton>
    <p class="text-[0.9rem] text-soft">
      Up to 16 MiB each. Save only what you asked for. The files are gone from the service when the visit is closed.
    </p>
    <ProblemNote :text="trouble" />
  </section>
</template>

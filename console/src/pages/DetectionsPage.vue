<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import AgainPanel from "../features/findings/AgainPanel.vue";
import FindingTabs from "../features/findings/FindingTabs.vue";
import { capital } from "../features/findings/kinds";
import { dayAndClock } from "../lib/time";
import ProblemNote from "../ui/ProblemNote.vue";
import StateNote from "../ui/StateNote.vue";

/** What is looked for besides broken rules; administrators change the text and publish it. */
const { zone } = useNow();
const { administers } = useMe();
const queries = useQueryClient();
const detections = useQuery({
  queryKey: ["detections"],
  queryFn: async () => unwrap(await api.GET("/api/v1/detections")),
});
const set = computed(() => detections.data.value);
const off = computed(() => set.value?.detections.filter((d) => !d.enabled).length ?? 0);
const editing = ref(false);
const text = ref("");
const why = ref("");
function edit() {
  text.value = set.value?.text ?? "";
  why.value = "";
  publish.reset();
  editing.value = true;
}
const publish = useMutation({
  mutationFn: async () => {
    const body = { text: text.value, why: why.value, after: set.value?.version ?? 0 };
    return unwrap(await api.POST("/api/v1/detections", { body }));
  },
  onSuccess: (published) => {
    queries.setQueryData(["detections"], published);
    editing.value = false;
  },
});
</script>

<template>
  <h1 v-if="set" data-testid="sentence">
    {{ set.detections.length }} detections look for what deserves attention though no rule was broken<template
      v-if="off"
      >; {{ off }} of them {{ off === 1 ? "is" : "are" }} switched off</template
    >.
  </h1>
  <h1 v-else>Detections</h1>
  <FindingTabs here="detections" />
  <StateNote
    v-if="!set"
    :loading="detections.isPending.value"
    :error="detections.error.value"
    @retry="detections.refetch()"
  />
  <template v-else>
    <div class="mb-3 flex flex-wrap items-center gap-3">
      <p class="text-soft">
        <template v-if="set.version"
          >Version {{ set.version }}, published by {{ set.by }}
          {{ set.at ? `on ${dayAndClock(set.at, zone)}` : "" }}.</template
        ><template v-else>These come along with Aerie.</template>
      </p>
      <button v-if="administers && !editing" class="button ml-auto" @click="edit">Change the text</button>
    </div>
    <form v-if="editing" class="mb-6 grid gap-3" @submit.prevent="publish.mutate()">
      <label
        ><span class="label">Detections (TOML). Each is published only if the tests beside it hold.</span
        ><textarea
          v-model="text"
          class="field mono h-[28rem] w-full whitespace-pre"
          name="text"
          spellcheck="false"
          required
        ></textarea>
      </label>
      <label
        ><span class="label">Why it is changed</span
        ><input v-model="why" class="field w-full" name="why" required maxlength="500"
      /></label>
      <ProblemNote class="mono whitespace-pre-wrap text-[0.9rem]" :text="publish.error.value?.message" />
      <div class="flex gap-2">
        <button class="button" data-kind="main" :disabled="publish.isPending.value">Publish</button>
        <button type="button" class="button" @click="editing = false">Cancel</button>
      </div>
      <AgainPanel :by="{ detections: text }" label="Try them on the last 30 days" :zone="zone" />
    </form>
    <div class="sheet overflow-x-auto">
      <table class="w-full">
        <thead>
          <tr class="border-b border-line [&>th]:px-3 [&>th]:py-2">
            <th scope="col">What it looks for</th>
            <th scope="col">Importance</th>
            <th scope="col">Form</th>
            <th scope="col">ATT&amp;CK</th>
            <th scope="col">Controls</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="d in set.detections"
            :key="d.name"
            class="border-b border-line align-top last:border-0 [&>td]:px-3 [&>td]:py-2"
            :class="{ 'text-soft': !d.enabled }"
            data-testid="detection"
          >
            <td>
              <RouterLink :to="{ path: '/findings', query: { kind: d.name, state: 'all' } }">{{
                d.title || d.name
              }}</RouterLink>
              <span class="mono block text-[0.85rem] text-soft">{{ d.name }}</span>
            </td>
            <td :class="{ 'font-semibold text-viol': d.enabled && ['high', 'critical'].includes(d.importance) }">
              {{ d.enabled ? capital(d.importance) : "Off" }}
            </td>
            <td>{{ d.form }}</td>
            <td class="mono whitespace-nowrap text-[0.9rem]">
              <span v-for="t in d.techniques" :key="t" class="block">{{ t }}</span>
            </td>
            <td class="text-[0.88rem] text-soft">{{ d.controls.join(", ") }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </template>
</template>

<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import FindingTabs from "../features/findings/FindingTabs.vue";
import { dayAndClock } from "../lib/time";
import ProblemNote from "../ui/ProblemNote.vue";
import StateNote from "../ui/StateNote.vue";
import { words } from "../lib/words";

/** Reports that are mailed now and then, and the next one as it would be mailed. */
const { zone } = useNow();
const me = useMe();
const list = useQuery({
  queryKey: ["reports"],
  queryFn: async () => unwrap(await api.GET("/api/v1/reports")),
});
const BY = [
  ["person", "Person"],
  ["machine", "Machine"],
  ["source", "Address"],
  ["account", "Account"],
  ["rule", "Rule"],
  ["system", "Operating system"],
] as const;
const every = ref("week");
const hour = ref(7);
const by = ref<string>("person");
const to = ref("");
const names = computed(() => words(to.value));
const sample = useQuery({
  queryKey: ["report", by],
  queryFn: async () => unwrap(await api.GET("/api/v1/report", { params: { query: { by: by.value } } })),
  placeholderData: (before) => before,
});
const add = useMutation({
  mutationFn: async () => {
    const mine = me.data.value?.person ?? "";
    const body = { every: every.value, hour: hour.value, by: by.value, to: names.value.length ? names.value : [mine] };
    return unwrap(await api.POST("/api/v1/reports", { body }));
  },
  onSuccess: () => {
    to.value = "";
    void list.refetch();
  },
});
const remove = useMutation({
  mutationFn: async (id: string) => unwrap(await api.DELETE("/api/v1/reports/{id}", { params: { path: { id } } })),
  onSuccess: () => list.refetch(),
});
const count = computed(() => list.data.value?.length ?? 0);
</script>

<template>
  <h1 data-testid="sentence">
    {{
      count
        ? `${count} ${count === 1 ? "report is" : "reports are"} mailed, the next ${dayAndClock(list.data.value![0]!.next, zone)}.`
        : list.data.value
          ? "No report is mailed yet."
          : "Reports"
    }}
  </h1>
  <FindingTabs here="reports" />
  <div class="grid gap-6 lg:grid-cols-[24rem_1fr]">
    <div class="grid gap-4 self-start print:hidden">
      <ul v-if="count" class="sheet divide-y divide-line">
        <li v-for="r in list.data.value" :key="r.id" class="px-4 py-3" data-testid="report">
          <p>{{ r.sentence }}</p>
          <p class="mt-0.5 text-[0.9rem] text-soft">
            To {{ r.shown.join(", ") }} · {{ r.last ? `last ${dayAndClock(r.last, zone)}` : "not mailed yet" }}
          </p>
          <button class="button mt-2" :disabled="remove.isPending.value" @click="remove.mutate(r.id)">
            Mail it no longer
          </button>
        </li>
      </ul>
      <StateNote
        v-else-if="list.isPending.value || list.error.value"
        :loading="list.isPending.value"
        :error="list.error.value"
        @retry="list.refetch()"
      />
      <form class="sheet grid gap-3 px-4 py-3" @submit.prevent="add.mutate()">
        <h2>Mail one now and then</h2>
        <div class="grid grid-cols-2 gap-3">
          <label
            ><span class="label">About each</span
            ><select v-model="every" class="field w-full" name="every">
              <option value="day">Day</option>
              <option value="week">Week, on Mondays</option>
              <option value="month">Month, on the first</option>
            </select></label
          >
          <label
            ><span class="label">At ({{ zone }})</span
            ><select v-model.number="hour" class="field w-full" name="hour">
              <option v-for="h in 24" :key="h" :value="h - 1">{{ String(h - 1).padStart(2, "0") }}:00</option>
            </select></label
          >
        </div>
        <label
          ><span class="label">Counted by</span
          ><select v-model="by" class="field w-full" name="by">
            <option v-for="[value, name] in BY" :key="value" :value="value">{{ name }}</option>
          </select></label
        >
        <label
          ><span class="label">To (names of administrators or auditors; yourself where it is empty)</span
          ><input v-model="to" class="field w-full" name="to" autocomplete="off" placeholder="greta, lena"
        /></label>
        <ProblemNote :text="add.error.value?.message ?? remove.error.value?.message" />
        <button class="button justify-self-start" data-kind="main" :disabled="add.isPending.value">Mail it</button>
      </form>
    </div>
    <section aria-label="The report" class="min-w-0">
      <h2 class="mb-2">The last whole week, as it would be mailed</h2>
      <template v-if="sample.data.value">
        <p class="mb-2 text-soft">Subject: {{ sample.data.value.subject }}</p>
        <pre
          class="sheet mono overflow-x-auto px-4 py-3 text-[12.5px] leading-relaxed whitespace-pre-wrap"
          data-testid="sample"
          tabindex="0"
          >{{ sample.data.value.text }}</pre>
      </template>
      <StateNote v-else :loading="sample.isPending.value" :error="sample.error.value" @retry="sample.refetch()" />
    </section>
  </div>
</template>

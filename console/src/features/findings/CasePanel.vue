<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap, type Finding } from "../../api/client";
import { useMe } from "../../composables/useMe";
import { dayAndClock } from "../../lib/time";
import ProblemNote from "../../ui/ProblemNote.vue";
import { STATES } from "./kinds";

/** How far it is with a finding, what was done, and what can be done next. Emits the finding as it is afterwards. */
const props = defineProps<{ finding: Finding; zone: string }>();
const emit = defineEmits<{ changed: [finding: Finding] }>();
const { data: me, administers } = useMe();
const settled = computed(() => !!props.finding.settled);
const emergency = computed(() => props.finding.kind === "emergency-used");

type What = "resolve" | "accept" | "reopen" | "comment" | "assign" | "due";
/** What is being said with words or a day before it is done. */
const open = ref<What>();
const why = ref("");
const owner = ref("");
const day = ref("");
const WORDS: Record<What, string> = {
  resolve: "Resolve",
  accept: "Accept for a while",
  reopen: "Open again",
  comment: "Comment",
  assign: "Give to …",
  due: "Due on …",
};
const ASKS: Record<What, string> = {
  resolve: "How it was mended",
  accept: "Why it may stay as it is",
  reopen: "Why it is not settled",
  comment: "Comment",
  assign: "",
  due: "",
};
const step = useMutation({
  mutationFn: async (body: { step: string; why?: string; owner?: string; until?: string }) =>
    unwrap(await api.POST("/api/v1/findings/{id}/steps", { params: { path: { id: props.finding.id } }, body })),
  onSuccess: (finding) => {
    open.value = undefined;
    why.value = "";
    emit("changed", finding);
  },
});
function begin(what: What) {
  step.reset();
  why.value = "";
  owner.value = props.finding.owner ?? me.value?.person ?? "";
  day.value = "";
  open.value = open.value === what ? undefined : what;
}
function send() {
  const what = open.value;
  if (!what) return;
  const until = day.value ? new Date(`${day.value}T23:59:00`).toISOString() : undefined;
  step.mutate({
    step: what,
    why: ASKS[what] ? why.value : undefined,
    owner: what === "assign" ? owner.value || undefined : undefined,
    until: what === "accept" || what === "due" ? until : undefined,
  });
}
const can = computed<What[]>(() => {
  if (settled.value) return ["reopen", "comment"];
  return emergency.value ? ["assign", "due", "comment"] : ["resolve", "accept", "assign", "due", "comment"];
});
</script>

<template>
  <section aria-labelledby="case">
    <h2 id="case" class="mb-1">The case</h2>
    <p data-testid="case">
      {{ STATES[finding.state] }}<template v-if="finding.until"> until {{ dayAndClock(finding.until, zone) }}</template
      >, {{ finding.owner ? `${finding.owner}'s` : "nobody's"
      }}<template v-if="finding.due">, due {{ dayAndClock(finding.due, zone) }}</template
      >.
    </p>
    <template v-if="administers">
      <div class="mt-2 flex flex-wrap gap-2 print:hidden">
        <button
          v-if="finding.state === 'open'"
          class="button"
          :disabled="step.isPending.value"
          @click="step.mutate({ step: 'acknowledge' })"
        >
          Acknowledge
        </button>
        <button
          v-if="!settled && finding.state !== 'in-work'"
          class="button"
          :disabled="step.isPending.value"
          @click="step.mutate({ step: 'begin' })"
        >
          Work on it
        </button>
        <button
          v-for="what in can"
          :key="what"
          class="button"
          :aria-expanded="open === what"
          aria-controls="case-step"
          @click="begin(what)"
        >
          {{ WORDS[what] }}
        </button>
      </div>
      <form v-if="open" id="case-step" class="mt-3 grid gap-2" @submit.prevent="send">
        <label v-if="ASKS[open]"
          ><span class="label">{{ ASKS[open] }}</span
          ><textarea v-model="why" class="field w-full" name="why" rows="2" required maxlength="2000" />
        </label>
        <label v-if="open === 'assign'"
          ><span class="label">Whose it is (nobody's where it is empty)</span
          ><input v-model="owner" class="field w-full" name="owner" maxlength="64"
        /></label>
        <label v-if="open === 'accept' || open === 'due'"
          ><span class="label">{{ open === "due" ? "Due on (never where it is empty)" : "Until" }}</span
          ><input v-model="day" type="date" class="field" name="day" :required="open === 'accept'"
        /></label>
        <div class="flex gap-2">
          <button class="button" data-kind="main" :disabled="step.isPending.value">{{ WORDS[open] }}</button>
          <button type="button" class="button" @click="open = undefined">Cancel</button>
        </div>
      </form>
      <ProblemNote class="mt-2" :text="step.error.value?.message" />
    </template>
    <ol v-if="finding.history.length" class="mt-3 grid gap-1.5 border-l-2 border-line pl-3 text-[0.93rem]">
      <li v-for="(h, i) in finding.history" :key="i" data-testid="history">
        <time class="text-soft">{{ dayAndClock(h.at, zone) }}</time>
        {{ h.sentence }}
      </li>
    </ol>
  </section>
</template>

<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { computed, reactive, ref } from "vue";
import { api, unwrap, type Finding } from "../../api/client";
import ProblemNote from "../../ui/ProblemNote.vue";
import { kindName } from "./kinds";

/** Keeps findings like one from coming up, for a while. */
const props = defineProps<{ finding: Finding }>();
const open = ref(false);
type Part = "machine" | "account" | "person" | "source";
const parts = computed(() => (["machine", "account", "person", "source"] as const).filter((p) => props.finding[p]));
const chosen = reactive<Record<Part, boolean>>({ machine: true, account: true, person: true, source: true });
const why = ref("");
const day = ref("");
const suppress = useMutation({
  mutationFn: async () => {
    const of = (p: Part) => (chosen[p] && props.finding[p]) || undefined;
    const body = {
      kind: props.finding.kind,
      machine: of("machine"),
      account: of("account"),
      person: of("person"),
      source: of("source"),
      until: new Date(`${day.value}T23:59:00`).toISOString(),
      why: why.value,
    };
    return unwrap(await api.POST("/api/v1/suppressions", { body }));
  },
});
const NAMES: Record<Part, string> = { machine: "machine", account: "account", person: "person", source: "address" };
</script>

<template>
  <p v-if="suppress.data.value" class="text-soft" role="status">
    {{ suppress.data.value.sentence }} <RouterLink to="/suppressions">All that is suppressed</RouterLink>
  </p>
  <button v-else-if="!open" class="button print:hidden" @click="open = true">Suppress others like it …</button>
  <form v-else class="grid gap-2" @submit.prevent="suppress.mutate()">
    <fieldset>
      <legend class="label">{{ kindName(finding.kind) }} does not come up where it has the same</legend>
      <label v-for="p in parts" :key="p" class="mr-4 inline-flex items-center gap-1.5"
        ><input v-model="chosen[p]" type="checkbox" :name="p" />{{ NAMES[p] }} <code>{{ finding[p] }}</code></label
      >
    </fieldset>
    <label
      ><span class="label">Until (at most a year)</span
      ><input v-model="day" type="date" class="field" name="until" required
    /></label>
    <label
      ><span class="label">Why</span
      ><input v-model="why" class="field w-full" name="suppress-why" required maxlength="500"
    /></label>
    <div class="flex gap-2">
      <button class="button" data-kind="main" :disabled="suppress.isPending.value">Suppress</button>
      <button type="button" class="button" @click="open = false">Cancel</button>
    </div>
    <ProblemNote :text="suppress.error.value?.message" />
  </form>
</template>

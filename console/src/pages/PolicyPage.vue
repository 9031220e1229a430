<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import PolicyTabs from "../features/policy/PolicyTabs.vue";
import RuleCards from "../features/policy/RuleCards.vue";
import RuleText from "../features/policy/RuleText.vue";
import { useBeginDraft, useDrafts, usePolicy } from "../features/policy/usePolicy";
import { dayAndClock } from "../lib/time";
import StateNote from "../ui/StateNote.vue";

const { administers } = useMe();
const { zone } = useNow();
const policy = usePolicy();
const drafts = useDrafts();
const text = computed(() => policy.data.value?.text ?? "");
const read = useQuery({
  queryKey: ["policy", "read", text],
  enabled: computed(() => policy.isSuccess.value),
  queryFn: async () => unwrap(await api.POST("/api/v1/policy/read", { body: { text: text.value } })),
});
const begin = useBeginDraft();
const pane = ref<InstanceType<typeof RuleText>>();
const count = (n: number, one: string) => `${n} ${one}${n === 1 ? "" : "s"}`;
const guards = computed(() => read.data.value?.rules.filter((r) => r.effect === "never").length ?? 0);
</script>

<template>
  <div class="flex flex-wrap items-start gap-4">
    <h1 class="grow">
      <template v-if="policy.data.value && policy.data.value.version === 0"
        >No rules are in force: nobody can reach anything.</template
      >
      <template v-else-if="policy.data.value && read.data.value"
        >Version {{ policy.data.value.version }} is in force:
        {{ count(read.data.value.rules.length - guards, "rule") }}, {{ count(guards, "guardrail") }},
        {{ count(read.data.value.tests, "test") }}.</template
      >
      <template v-else>Rules</template>
    </h1>
    <button
      v-if="administers"
      class="button"
      data-kind="main"
      :disabled="begin.isPending.value"
      data-testid="begin-draft"
      @click="begin.mutate({ title: `Change of version ${policy.data.value?.version ?? 0}` })"
    >
      Change the rules
    </button>
  </div>
  <PolicyTabs here="rules" />
  <ul v-if="drafts.data.value?.length" class="sheet mb-4 divide-y divide-line" aria-label="Drafts">
    <li v-for="d in drafts.data.value" :key="d.id" class="flex flex-wrap items-baseline gap-x-3 px-3.5 py-2">
      <span class="font-semibold text-wait">Draft</span>
      <RouterLink :to="`/rules/drafts/${d.id}`" data-testid="draft">{{ d.title }}</RouterLink>
      <span class="text-[0.9rem] text-soft"
        >{{ d.changed_by }}, {{ dayAndClock(d.changed, zone)
        }}<template v-if="d.agreed_by">; {{ d.agreed_by }} agreed</template
        ><template v-if="!d.current"
          >; written against version {{ d.base }}, which is no longer in force</template
        ></span
      >
    </li>
  </ul>
  <StateNote
    v-if="!policy.data.value"
    :loading="policy.isPending.value"
    :error="policy.error.value"
    @retry="policy.refetch()"
  />
  <div v-else-if="policy.data.value.version > 0" class="grid gap-4 lg:grid-cols-2">
    <div>
      <RuleCards
        v-if="read.data.value"
        :rules="read.data.value.rules"
        :diagnostics="read.data.value.diagnostics"
        @line="(line) => pane?.show(line)"
      />
      <StateNote v-else :loading="read.isPending.value" :error="read.error.value" @retry="read.refetch()" />
    </div>
    <RuleText
      ref="pane"
      class="sticky top-3 h-[calc(100vh-1.5rem)]"
      :text="text"
      :diagnostics="read.data.value?.diagnostics ?? []"
      readonly
      label="The rules in force, as text"
      @change="() => {}"
    />
  </div>
</template>

<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import AgainPanel from "../features/findings/AgainPanel.vue";
import DiffView from "../features/policy/DiffView.vue";
import PolicyTabs from "../features/policy/PolicyTabs.vue";
import { dayAndClock } from "../lib/time";
import StateNote from "../ui/StateNote.vue";

const { administers, readsAll } = useMe();
const { zone } = useNow();
const queries = useQueryClient();
const versions = useQuery({
  queryKey: ["versions"],
  queryFn: async () => unwrap(await api.GET("/api/v1/policy/versions")),
});
const chosen = ref<number>();
const shown = computed(() => chosen.value ?? versions.data.value?.[0]?.version);
const one = async (version: number) =>
  unwrap(await api.GET("/api/v1/policy/versions/{version}", { params: { path: { version } } })).text ?? "";
const texts = useQuery({
  queryKey: ["versions", "texts", shown],
  enabled: computed(() => shown.value !== undefined),
  queryFn: async () => {
    const version = shown.value!;
    return { after: await one(version), before: version > 1 ? await one(version - 1) : "" };
  },
});
const restore = useMutation({
  mutationFn: async (version: number) =>
    unwrap(
      await api.POST("/api/v1/policy/versions/{version}/restore", {
        params: { path: { version } },
        body: { note: "" },
      }),
    ),
  onSuccess: () => {
    chosen.value = undefined;
    void queries.invalidateQueries();
  },
});
</script>

<template>
  <h1>
    <template v-if="versions.data.value?.length"
      >{{ versions.data.value.length === 1 ? "1 version" : `${versions.data.value.length} versions` }} of the rules, the
      last by {{ versions.data.value[0]!.published_by }}.</template
    ><template v-else>History of the rules</template>
  </h1>
  <PolicyTabs here="history" />
  <StateNote
    v-if="!versions.data.value?.length"
    :loading="versions.isPending.value"
    :error="versions.error.value"
    empty="No rules were published yet."
    @retry="versions.refetch()"
  />
  <div v-else class="grid gap-4 lg:grid-cols-[22rem_1fr]">
    <ol class="sheet divide-y divide-line self-start">
      <li
        v-for="v in versions.data.value"
        :key="v.version"
        :class="{ 'bg-open': v.version === shown }"
        data-testid="version"
      >
        <button
          class="w-full cursor-pointer px-3.5 py-2 text-left"
          :aria-current="v.version === shown || undefined"
          @click="chosen = v.version"
        >
          <span class="flex items-baseline gap-2"
            ><span class="font-semibold">Version {{ v.version }}</span
            ><span class="mono ml-auto text-[0.82rem] text-soft">+{{ v.added }} −{{ v.removed }}</span></span
          >
          <span class="block text-[0.9rem] text-soft"
            >{{ v.published_by }}, {{ dayAndClock(v.published_at, zone) }}</span
          >
          <span v-if="v.agreed_by" class="block text-[0.9rem] text-soft">{{ v.agreed_by }} agreed</span>
          <span v-if="v.restored" class="block text-[0.9rem]">Version {{ v.restored }} again</span>
          <span v-if="v.note" class="block text-[0.9rem]">{{ v.note }}</span>
        </button>
      </li>
    </ol>
    <section :aria-label="`Version ${shown}`" class="min-w-0">
      <div class="mb-2 flex items-center gap-4">
        <h2 class="grow">{{ shown === 1 ? "The first version" : `What version ${shown} changed` }}</h2>
        <button
          v-if="administers && shown !== versions.data.value[0]!.version"
          class="button"
          :disabled="restore.isPending.value"
          data-testid="restore"
          @click="restore.mutate(shown!)"
        >
          Put version {{ shown }} in force again
        </button>
      </div>
      <StateNote v-if="restore.error.value" class="mb-3" :error="restore.error.value" @retry="restore.reset()" />
      <AgainPanel
        v-if="readsAll && shown !== undefined"
        class="mb-3"
        :by="{ version: shown }"
        :label="`Judge the last 30 days by version ${shown}`"
        :zone="zone"
      />
      <DiffView v-if="texts.data.value" :before="texts.data.value.before" :after="texts.data.value.after" />
      <StateNote v-else :loading="texts.isPending.value" :error="texts.error.value" @retry="texts.refetch()" />
    </section>
  </div>
</template>

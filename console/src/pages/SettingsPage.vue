<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap, type Setting } from "../api/client";
import { useMe } from "../composables/useMe";
import { proven } from "../composables/useProve";
import { ago } from "../lib/time";
import ProposalList from "../features/proposals/ProposalList.vue";
import StateNote from "../ui/StateNote.vue";
import ProblemNote from "../ui/ProblemNote.vue";

const { administers } = useMe();
const queries = useQueryClient();
const settings = useQuery({ queryKey: ["settings"], queryFn: async () => unwrap(await api.GET("/api/v1/settings")) });
const changes = useQuery({
  queryKey: ["settings", "changes"],
  queryFn: async () => unwrap(await api.GET("/api/v1/settings/changes")),
});
const keys = useQuery({ queryKey: ["settings", "keys"], queryFn: async () => unwrap(await api.GET("/api/v1/keys")) });
const different = computed(() => settings.data.value?.filter((s) => s.value !== s.default).length ?? 0);
const editing = ref<Setting | null>(null);
const rotating = ref("");
const value = ref("");
const why = ref("");
const refresh = () => queries.invalidateQueries({ queryKey: ["settings"] });

function edit(s: Setting) {
  // What was wrong with another is not said of this one.
  change.reset();
  editing.value = s;
  value.value = s.value;
  why.value = "";
}
const change = useMutation({
  mutationFn: () =>
    proven(async () => {
      const params = { path: { name: editing.value!.name } };
      return unwrap(await api.PUT("/api/v1/settings/{name}", { params, body: { value: value.value, why: why.value } }));
    }),
  onSuccess: () => {
    editing.value = null;
    void refresh();
  },
});
const rotate = useMutation({
  mutationFn: () =>
    proven(async () => unwrap(await api.POST("/api/v1/keys", { body: { purpose: rotating.value, why: why.value } }))),
  onSuccess: () => {
    rotating.value = "";
    void refresh();
  },
});
</script>

<template>
  <template v-if="settings.data.value">
    <h1>
      {{
        different === 0
          ? "Every setting has its default."
          : `${different} of ${settings.data.value.length} settings ${different === 1 ? "differs" : "differ"} from the default.`
      }}
    </h1>
    <ProposalList />
    <ul class="sheet mt-4 divide-y divide-line" aria-label="Settings">
      <li v-for="s in settings.data.value" :key="s.name" class="px-4 py-2" data-testid="setting">
        <div class="flex flex-wrap items-baseline gap-x-4">
          <code class="w-52 font-semibold">{{ s.name }}</code>
          <span class="min-w-40 flex-1 whitespace-pre-line" :class="{ 'text-soft': s.value === s.default }">{{
            s.value || "empty"
          }}</span>
          <span v-if="s.value !== s.default" class="text-soft">default {{ s.default || "empty" }}</span>
          <button v-if="administers" class="button" :aria-label="`Change ${s.name}`" @click="edit(s)">Change</button>
        </div>
        <p class="text-[0.92rem] text-soft">{{ s.about }}</p>
        <form
          v-if="editing?.name === s.name"
          class="mt-2 flex max-w-3xl flex-col gap-3"
          @submit.prevent="change.mutate()"
        >
          <label
            ><span class="label">Value{{ s.bounds ? `: ${s.bounds}` : "" }}</span>
            <select v-if="s.kind === 'flag'" v-model="value" class="field" name="value">
              <option>yes</option>
              <option>no</option>
            </select>
            <textarea
              v-else-if="s.kind !== 'number'"
              v-model="value"
              class="field w-full"
              name="value"
              :rows="s.kind === 'lines' ? 4 : 2"
            />
            <input v-else v-model="value" class="field w-40" inputmode="numeric" name="value" />
          </label>
          <label
            ><span class="label">Why</span
            ><input v-model="why" class="field w-full" name="why" required maxlength="500"
          /></label>
          <span class="flex gap-3">
            <button class="button" data-kind="main" :disabled="change.isPending.value">Set</button>
            <button type="button" class="button" @click="editing = null">Cancel</button>
          </span>
          <ProblemNote :text="change.error.value?.message" />
        </form>
      </li>
    </ul>
    <div class="mt-5 grid items-start gap-4 lg:grid-cols-2">
      <section aria-labelledby="keys">
        <h2 id="keys" class="mb-2">Keys of the service</h2>
        <ul class="sheet divide-y divide-line">
          <li
            v-for="k in keys.data.value"
            :key="`${k.purpose} ${k.generation}`"
            class="px-4 py-2"
            data-testid="service-key"
          >
            <div class="flex flex-wrap items-baseline gap-x-4">
              <code class="font-semibold">{{ k.purpose }}</code>
              <span class="text-soft">no. {{ k.generation }}, {{ k.in_use ? "in use" : "still verifies" }}</span>
              <span class="ml-auto text-soft">made {{ ago(k.made) }}</span>
              <button
                v-if="administers && k.in_use"
                class="button"
                :aria-label="`Rotate ${k.purpose}`"
                @click="((rotating = k.purpose), (why = ''))"
              >
                Rotate
              </button>
            </div>
            <p class="text-[0.92rem] text-soft">{{ k.about }}</p>
            <code v-if="k.public" class="block break-all text-soft">{{ k.public }}</code>
            <form
              v-if="rotating === k.purpose && k.in_use"
              class="mt-2 flex flex-wrap items-end gap-3"
              @submit.prevent="rotate.mutate()"
            >
              <label class="flex-1"
                ><span class="label">Why</span
                ><input v-model="why" class="field w-full" name="why" required maxlength="500"
              /></label>
              <button class="button" data-kind="main" :disabled="rotate.isPending.value">Rotate</button>
              <button type="button" class="button" @click="rotating = ''">Cancel</button>
            </form>
          </li>
        </ul>
        <ProblemNote class="mt-2" :text="rotate.error.value?.message" />
      </section>
      <section aria-labelledby="changes">
        <h2 id="changes" class="mb-2">Who changed what, and why</h2>
        <ul v-if="changes.data.value?.length" class="sheet divide-y divide-line">
          <li v-for="c in changes.data.value" :key="c.at + c.name" class="px-4 py-2">
            <span class="font-semibold">{{ c.by }}</span> set <code>{{ c.name }}</code> from
            {{ c.before || "empty" }} to {{ c.after || "empty" }}, {{ ago(c.at) }}: {{ c.why }}
          </li>
        </ul>
        <p v-else class="text-soft">Nobody changed a setting yet.</p>
      </section>
    </div>
  </template>
  <StateNote v-else :loading="settings.isPending.value" :error="settings.error.value" @retry="settings.refetch()" />
</template>

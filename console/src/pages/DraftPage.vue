<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { ApiError, api, unwrap, type Draft, type Effect, type PolicyRead, type RuleCard } from "../api/client";
import { useMe } from "../composables/useMe";
import EffectPanel from "../features/policy/EffectPanel.vue";
import RuleCards from "../features/policy/RuleCards.vue";
import RuleForm from "../features/policy/RuleForm.vue";
import RuleText from "../features/policy/RuleText.vue";
import { usePolicy, useSelectors } from "../features/policy/usePolicy";
import StateNote from "../ui/StateNote.vue";

const props = defineProps<{ id: string }>();
const { data: me, administers } = useMe();
const router = useRouter();
const queries = useQueryClient();
const policy = usePolicy();
const { people, machines } = useSelectors();
const draft = useQuery({
  queryKey: ["draft", () => props.id],
  queryFn: async () => unwrap(await api.GET("/api/v1/drafts/{id}", { params: { path: { id: props.id } } })),
  refetchOnWindowFocus: false,
});

const text = ref("");
const title = ref("");
const saved = ref<Draft>();
watch(
  () => draft.data.value,
  (d) => {
    // What somebody else saved does not overwrite what is being written here.
    if (!d || (saved.value && changed.value)) return;
    saved.value = d;
    text.value = d.text ?? "";
    title.value = d.title;
  },
  { immediate: true },
);
const changed = computed(() => !!saved.value && (text.value !== saved.value.text || title.value !== saved.value.title));
const overtaken = computed(
  () => !!draft.data.value && !!saved.value && draft.data.value.revision > saved.value.revision,
);

const read = ref<PolicyRead>();
const effect = ref<Effect>();
const stale = ref(true);
const problem = ref("");
const failure = ref<Error | null>(null);
let asked = 0;
let timer: ReturnType<typeof setTimeout> | undefined;

/** Reads what is written and works out its effect; an older answer never replaces a newer one. */
async function work() {
  const turn = ++asked;
  const body = { text: text.value, against: null, days: 30 };
  try {
    const found = unwrap(await api.POST("/api/v1/policy/read", { body }));
    if (turn !== asked) return;
    read.value = found;
    if (!found.rules.length && !found.ok) {
      problem.value = "The effect is told once the text can be read.";
      return;
    }
    const told = unwrap(await api.POST("/api/v1/policy/effect", { body }));
    if (turn !== asked) return;
    effect.value = told;
    problem.value = "";
    stale.value = false;
  } catch (e) {
    if (turn === asked) problem.value = e instanceof ApiError ? e.message : "The service cannot be reached.";
  }
}
watch(text, () => {
  stale.value = true;
  clearTimeout(timer);
  timer = setTimeout(() => void work(), 350);
});

const header = () => ({ "if-match": `"${saved.value?.revision ?? 0}"` });
const path = () => ({ id: props.id });
const save = useMutation({
  mutationFn: async () =>
    unwrap(
      await api.PUT("/api/v1/drafts/{id}", {
        params: { path: path(), header: header() },
        body: { title: title.value, text: text.value, base: policy.data.value?.version ?? null },
      }),
    ),
  onSuccess: (d) => {
    saved.value = d;
    failure.value = null;
    queries.setQueryData(["draft", props.id], d);
  },
  onError: (e) => (failure.value = e),
});
const agree = useMutation({
  mutationFn: async () =>
    unwrap(await api.POST("/api/v1/drafts/{id}/agree", { params: { path: path(), header: header() } })),
  onSuccess: (d) => (saved.value = d),
  onError: (e) => (failure.value = e),
});
const publish = useMutation({
  mutationFn: async () => {
    if (changed.value) await save.mutateAsync();
    return unwrap(
      await api.POST("/api/v1/drafts/{id}/publish", {
        params: { path: path(), header: header() },
        body: { note: title.value },
      }),
    );
  },
  onSuccess: () => {
    void queries.invalidateQueries();
    void router.push("/rules");
  },
  onError: (e) => (failure.value = e),
});
const drop = useMutation({
  mutationFn: async () => unwrap(await api.DELETE("/api/v1/drafts/{id}", { params: { path: path() } })),
  onSuccess: () => {
    void queries.invalidateQueries({ queryKey: ["drafts"] });
    void router.push("/rules");
  },
  onError: (e) => (failure.value = e),
});

const editing = ref<RuleCard>();
const open = ref(false);
async function edit(change: { name?: string; effect?: string; fields: Record<string, unknown> | null }) {
  try {
    const body = {
      text: text.value,
      name: change.name ?? null,
      effect: change.effect ?? null,
      fields: change.fields as never,
    };
    text.value = unwrap(await api.POST("/api/v1/policy/edit", { body })).text;
    open.value = false;
    failure.value = null;
  } catch (e) {
    failure.value = e as Error;
  }
}
function show(rule?: RuleCard) {
  editing.value = rule;
  open.value = true;
}
const pane = ref<InstanceType<typeof RuleText>>();
const needsSecond = computed(() => !!saved.value?.second_person && (!saved.value.agreed_by || changed.value));
const mayAgree = computed(
  () =>
    needsSecond.value &&
    !changed.value &&
    saved.value?.author !== me.value?.person &&
    saved.value?.changed_by !== me.value?.person,
);
</script>

<template>
  <StateNote v-if="!saved" :loading="draft.isPending.value" :error="draft.error.value" @retry="draft.refetch()" />
  <template v-else>
    <div class="flex flex-wrap items-center gap-2.5">
      <h1 class="min-w-64 grow">
        <label>
          <span class="sr-only">What this draft is about</span>
          <input
            v-model="title"
            class="w-full rounded border border-transparent bg-transparent px-1 py-0.5 hover:border-edge focus:border-edge"
            :readonly="!administers"
            maxlength="200"
          />
        </label>
      </h1>
      <template v-if="administers">
        <button class="button" data-testid="add-rule" @click="show()">Add a rule</button>
        <button
          class="button"
          :disabled="!changed || save.isPending.value"
          data-testid="save-draft"
          @click="save.mutate()"
        >
          {{ changed ? "Save" : "Saved" }}
        </button>
        <button class="button" :disabled="drop.isPending.value" @click="drop.mutate()">Drop</button>
        <button v-if="mayAgree" class="button" data-kind="main" data-testid="agree" @click="agree.mutate()">
          Agree to it
        </button>
        <button
          class="button"
          data-kind="main"
          :disabled="!read?.ok || stale || needsSecond || publish.isPending.value"
          data-testid="publish"
          @click="publish.mutate()"
        >
          Publish
        </button>
      </template>
    </div>
    <p class="mb-3 mt-1 px-1 text-[0.92rem] text-soft" role="status">
      <span v-if="overtaken" class="font-semibold text-wait"
        >Somebody else saved this draft since: reload before you go on.
      </span>
      <span v-if="read && !read.ok" class="font-semibold text-viol">It cannot be published as it is. </span>
      <span v-if="needsSecond" class="font-semibold text-wait"
        >A second person must agree before it is published.
      </span>
      <span v-else-if="saved.agreed_by">{{ saved.agreed_by }} agreed to it. </span>
      <span v-if="!saved.current"
        >Written against version {{ saved.base }}; version {{ policy.data.value?.version }} is in force. Saving takes it
        as read.
      </span>
      Begun by {{ saved.author }}, revision {{ saved.revision }}.
    </p>
    <StateNote v-if="failure" class="mb-3" :error="failure" @retry="failure = null" />
    <div class="grid gap-3.5 lg:grid-cols-[minmax(0,5fr)_minmax(0,6fr)_minmax(0,5fr)] [&>*]:lg:h-[calc(100vh-11.5rem)]">
      <div class="overflow-auto">
        <RuleCards
          v-if="read?.rules.length"
          :rules="read.rules"
          :diagnostics="read.diagnostics"
          :editable="administers"
          @edit="show"
          @line="(line) => pane?.show(line)"
        />
        <p v-else class="sheet p-3.5 text-soft">The rules are shown as sentences once the text can be read.</p>
      </div>
      <RuleText
        ref="pane"
        class="min-h-96"
        :text="text"
        :diagnostics="read?.diagnostics ?? []"
        :readonly="!administers"
        label="The draft, as text"
        @change="(t) => (text = t)"
      />
      <EffectPanel :effect="effect" :stale="stale" :problem="problem" />
    </div>
    <RuleForm
      :open="open"
      :rule="editing"
      :hours="read?.hours ?? []"
      :people="people"
      :machines="machines"
      @close="open = false"
      @remove="(name) => edit({ name, fields: null })"
      @save="edit"
    />
  </template>
</template>

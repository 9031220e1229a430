<script setup lang="ts">
import { keepPreviousData, useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import { CAPABILITIES } from "../features/policy/form";
import { useSelectors } from "../features/policy/usePolicy";
import ReachEntries from "../features/reach/ReachEntries.vue";
import ReachMatrix from "../features/reach/ReachMatrix.vue";
import StateNote from "../ui/StateNote.vue";

const { data: me, readsAll } = useMe();
const { zone } = useNow();
const route = useRoute();
const router = useRouter();
const { personNames, machineNames } = useSelectors();

/** What is asked stands in the address, so that it can be sent to somebody. */
const asked = (key: string) =>
  computed<string>({
    get: () => String(route.query[key] ?? ""),
    set: (v) => void router.replace({ query: { ...route.query, [key]: v || undefined } }),
  });
const person = asked("person");
const machine = asked("machine");
const people = asked("people");
const machines = asked("machines");
const capability = asked("capability");
const target = asked("target");
const rows = computed<string>({
  get: () => String(route.query.rows ?? "group"),
  set: (v) => void router.replace({ query: { ...route.query, rows: v } }),
});
const columns = computed<string>({
  get: () => String(route.query.columns ?? "site"),
  set: (v) => void router.replace({ query: { ...route.query, columns: v } }),
});
const some = (v: string) => v || undefined;
const query = computed(() => ({
  person: some(person.value),
  machine: some(machine.value),
  people: some(people.value),
  machines: some(machines.value),
  capability: some(capability.value),
}));
const narrowed = computed(() => Object.values(query.value).some(Boolean));
const whole = computed(() => readsAll.value && !person.value && !machine.value);

const reach = useQuery({
  queryKey: ["reach", query],
  enabled: computed(() => !!me.value && (narrowed.value || !readsAll.value)),
  placeholderData: keepPreviousData,
  queryFn: async () => unwrap(await api.GET("/api/v1/reach", { params: { query: query.value } })),
});
const matrix = useQuery({
  queryKey: ["reach", "matrix", rows, columns, people, machines],
  enabled: whole,
  placeholderData: keepPreviousData,
  queryFn: async () =>
    unwrap(
      await api.GET("/api/v1/reach/matrix", {
        params: {
          query: {
            rows: rows.value,
            columns: columns.value,
            people: some(people.value),
            machines: some(machines.value),
          },
        },
      }),
    ),
});
const why = useQuery({
  queryKey: ["why", person, machine, capability, target],
  enabled: computed(() => !!person.value && !!machine.value),
  queryFn: async () =>
    unwrap(
      await api.GET("/api/v1/why", {
        params: {
          query: {
            person: person.value,
            machine: machine.value,
            capability: capability.value || "shell",
            target: capability.value === "forward" ? some(target.value) : undefined,
          },
        },
      }),
    ),
});
const csv = computed(() => {
  const all = Object.entries(query.value).filter((e): e is [string, string] => !!e[1]);
  return `/api/v1/reach.csv?${new URLSearchParams(all)}`;
});

/** One step in: groups become their people and machines, a single pair is told in full. */
function choose(row: string, column: string) {
  const at = (text: string, key: string) => (text.startsWith(`${key}:`) ? text.slice(key.length + 1) : undefined);
  if (rows.value === "person" && columns.value === "name") {
    void router.push({ query: { person: at(row, "person"), machine: at(column, "name") } });
  } else {
    void router.push({ query: { people: row, machines: column, rows: "person", columns: "name" } });
  }
}
</script>

<template>
  <div class="flex flex-wrap items-start gap-4">
    <h1 class="grow">
      {{
        (narrowed || !readsAll ? reach.data.value?.sentence : undefined) ??
        matrix.data.value?.sentence ??
        "Who can reach what"
      }}
    </h1>
    <a v-if="readsAll" class="button no-underline" :href="csv" download>CSV</a>
  </div>
  <form v-if="readsAll" class="mb-4 mt-3 flex flex-wrap items-end gap-3" role="search" @submit.prevent>
    <label
      ><span class="label">Person</span>
      <input v-model.lazy="person" class="field w-44" list="reach-people" placeholder="anybody" name="person" />
      <datalist id="reach-people">
        <option v-for="p in personNames" :key="p.name" :value="p.name">{{ p.full }}</option>
      </datalist>
    </label>
    <label
      ><span class="label">Machine</span>
      <input v-model.lazy="machine" class="field w-44" list="reach-machines" placeholder="any" name="machine" />
      <datalist id="reach-machines"><option v-for="m in machineNames" :key="m" :value="m"></option></datalist>
    </label>
    <label
      ><span class="label">Capability</span>
      <select v-model="capability" class="field" name="capability">
        <option value="">any</option>
        <option v-for="c in CAPABILITIES" :key="c" :value="c">{{ c }}</option>
      </select>
    </label>
    <label v-if="capability === 'forward' && person && machine"
      ><span class="label">Target</span>
      <input v-model.lazy="target" class="field mono w-44" placeholder="localhost:5432" name="target" />
    </label>
    <template v-if="whole">
      <label
        ><span class="label">People by</span>
        <select v-model="rows" class="field">
          <option value="group">group</option>
          <option value="organisation">organisation</option>
          <option value="person">name</option>
        </select>
      </label>
      <label
        ><span class="label">Machines by</span>
        <select v-model="columns" class="field">
          <option value="site">site</option>
          <option value="group">group</option>
          <option value="label">label</option>
          <option value="owner">owner</option>
          <option value="name">name</option>
        </select>
      </label>
    </template>
    <button
      v-if="narrowed || rows !== 'group' || columns !== 'site'"
      type="button"
      class="button"
      @click="router.push({ query: {} })"
    >
      Start again
    </button>
  </form>
  <section v-if="why.data.value" class="sheet mb-4 px-4 py-3" aria-label="Why" data-testid="why">
    <h2>{{ capability || "shell" }}, now</h2>
    <p>{{ why.data.value.sentence }}</p>
    <ul v-if="why.data.value.changes.length" class="mt-1 list-disc pl-5 text-soft">
      <li v-for="c in why.data.value.changes" :key="c">{{ c }}</li>
    </ul>
  </section>
  <ReachMatrix v-if="whole && matrix.data.value" class="mb-5" :matrix="matrix.data.value" @choose="choose" />
  <StateNote
    v-else-if="whole"
    :loading="matrix.isPending.value"
    :error="matrix.error.value"
    @retry="matrix.refetch()"
  />
  <template v-if="narrowed || !readsAll">
    <ReachEntries
      v-if="reach.data.value?.entries.length"
      :reach="reach.data.value"
      :zone="zone"
      @person="(n) => router.push({ query: { person: n, capability: capability || undefined } })"
      @machine="(n) => router.push({ query: { machine: n, capability: capability || undefined } })"
    />
    <StateNote
      v-else
      :loading="reach.isPending.value"
      :error="reach.error.value"
      empty="No rule gives this to anybody, at any hour of the week."
      @retry="reach.refetch()"
    />
  </template>
</template>

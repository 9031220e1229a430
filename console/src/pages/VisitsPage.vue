<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, onUnmounted, reactive, ref } from "vue";
import { api, unwrap, type Visit } from "../api/client";
import { useMe } from "../composables/useMe";
import { duration } from "../lib/time";
import ProblemNote from "../ui/ProblemNote.vue";
import StateNote from "../ui/StateNote.vue";

/** Who waits for help and who is helped, and the PIN for a new visit. */
const queries = useQueryClient();
const { data: me, may } = useMe();
const now = ref(Date.now());
const tick = setInterval(() => (now.value = Date.now()), 1000);
onUnmounted(() => clearInterval(tick));
const everything = ref(false);
const visits = useQuery({
  queryKey: ["visits", () => everything.value],
  queryFn: async () => unwrap(await api.GET("/api/v1/visits", { params: { query: { open: !everything.value } } })),
});
const queues = useQuery({
  queryKey: ["visits", "queues"],
  queryFn: async () => unwrap(await api.GET("/api/v1/queues")),
});
const refresh = () => queries.invalidateQueries({ queryKey: ["visits"] });
const making = ref(false);
const form = reactive({ queue: "", person: "", mail: "", reason: "", ticket: "", send_link: false });
const make = useMutation({
  mutationFn: async () => unwrap(await api.POST("/api/v1/visits", { body: { ...form } })),
  onSuccess: () => {
    making.value = false;
    Object.assign(form, { person: "", mail: "", reason: "", ticket: "", send_link: false });
    void refresh();
  },
});
const pickUp = useMutation({
  mutationFn: async (id: string) => unwrap(await api.POST("/api/v1/visits/{id}/pick-up", { params: { path: { id } } })),
  onSuccess: refresh,
});
const all = computed(() => visits.data.value ?? []);
const waiting = computed(() => all.value.filter((v) => v.state === "waiting" && v.arrived));
const active = computed(() => all.value.filter((v) => v.state === "active"));
const open = computed(() => all.value.filter((v) => v.state === "ended" && !v.closed));
const sentence = computed(() => {
  if (!visits.data.value) return "Visits";
  const expected = all.value.filter((v) => v.state === "waiting" && !v.arrived).length;
  const parts = [
    expected && `${expected} ${expected === 1 ? "is" : "are"} expected with a PIN`,
    waiting.value.length && `${waiting.value.length} ${waiting.value.length === 1 ? "waits" : "wait"}`,
    active.value.length && `${active.value.length} ${active.value.length === 1 ? "is" : "are"} helped`,
    open.value.length && `${open.value.length} ${open.value.length === 1 ? "is" : "are"} not closed yet`,
  ].filter(Boolean);
  return parts.length ? `${parts.join(", ")}.` : "Nobody waits for help.";
});
const spaced = (pin: string) => pin.replace(/(.{4})(?=.)/g, "$1 ");
const state = (v: Visit) =>
  v.closed
    ? `closed, ${v.outcome}`
    : v.state === "waiting" && !v.arrived
      ? "PIN not entered"
      : v.state === "ended"
        ? "to be closed"
        : v.state;
const waited = (v: Visit) =>
  v.state === "waiting" && v.arrived ? duration((now.value - Date.parse(v.arrived)) / 1000) : "";
</script>

<template>
  <div class="flex flex-wrap items-baseline gap-4">
    <h1>{{ sentence }}</h1>
    <button
      v-if="may('issue-pins') && !making"
      class="button ml-auto"
      data-kind="main"
      data-testid="new-visit"
      @click="making = true"
    >
      New visit
    </button>
  </div>
  <form v-if="making" class="sheet mt-4 grid max-w-3xl gap-3 p-4 sm:grid-cols-2" @submit.prevent="make.mutate()">
    <label
      ><span class="label">Whom do you help?</span
      ><input v-model="form.person" class="field w-full" name="person" maxlength="100" required v-focus
    /></label>
    <label
      ><span class="label">Ticket</span><input v-model="form.ticket" class="field w-full" name="ticket" maxlength="100"
    /></label>
    <label class="sm:col-span-2"
      ><span class="label">What is it about? They see this.</span
      ><input v-model="form.reason" class="field w-full" name="reason" maxlength="200"
    /></label>
    <label v-if="(queues.data.value?.length ?? 0) > 1"
      ><span class="label">Queue</span
      ><select v-model="form.queue" class="field w-full" required>
        <option v-for="q in queues.data.value" :key="q.name" :value="q.name">{{ q.note || q.name }}</option>
      </select></label
    >
    <label
      ><span class="label">Their mail address</span
      ><input v-model="form.mail" class="field w-full" name="mail" type="email" maxlength="200"
    /></label>
    <label class="flex items-center gap-2 sm:col-span-2"
      ><input v-model="form.send_link" type="checkbox" :disabled="!form.mail" /> mail them the link; the PIN is read
      out</label
    >
    <div class="flex gap-3 sm:col-span-2">
      <button class="button" data-kind="main" :disabled="make.isPending.value">Get a PIN</button>
      <button type="button" class="button" @click="making = false">Cancel</button>
    </div>
    <ProblemNote class="sm:col-span-2" :text="make.error.value?.message" />
  </form>
  <section
    v-if="make.data.value"
    class="sheet mt-4 max-w-3xl border-l-4 border-l-accent px-5 py-4"
    role="status"
    aria-label="The PIN"
  >
    <p class="text-soft">Read this out to {{ make.data.value.visit.person }}:</p>
    <p class="mono my-1 text-[2.6rem] leading-tight tracking-widest" data-testid="new-pin">
      {{ spaced(make.data.value.pin) }}
    </p>
    <p>
      It is entered at <a :href="make.data.value.link" class="mono">{{ make.data.value.link }}</a> and is not shown
      again.
      <RouterLink :to="`/visits/${make.data.value.visit.id}`" data-testid="to-visit">To the visit</RouterLink>
    </p>
  </section>
  <div class="mt-4 grid items-start gap-5 lg:grid-cols-[minmax(0,1fr)_19rem]">
    <div class="min-w-0">
      <div v-if="all.length" class="sheet overflow-x-auto">
        <table class="w-full [&_td]:px-3 [&_td]:py-2 [&_th]:px-3 [&_th]:py-2" aria-label="Visits">
          <thead>
            <tr class="border-b border-line">
              <th>Person</th>
              <th>About</th>
              <th>Queue</th>
              <th>State</th>
              <th class="text-right!">Waits for</th>
              <th>Helps</th>
              <th><span class="sr-only">What can be done</span></th>
            </tr>
          </thead>
          <tbody class="divide-y divide-line">
            <tr v-for="v in all" :key="v.id" data-testid="visit">
              <td class="font-semibold">
                <RouterLink :to="`/visits/${v.id}`">{{ v.person || "Somebody" }}</RouterLink>
              </td>
              <td class="[overflow-wrap:anywhere]">
                <span v-if="v.ticket" class="mono text-soft">{{ v.ticket }}</span> {{ v.reason }}
              </td>
              <td>{{ v.queue }}</td>
              <td :class="v.state === 'waiting' && v.arrived ? 'font-semibold text-wait' : ''">{{ state(v) }}</td>
              <td class="text-right tabular-nums">{{ waited(v) }}</td>
              <td>{{ v.technician ?? "" }}</td>
              <td class="text-right">
                <button
                  v-if="!v.closed && v.technician !== me?.person && may('issue-pins')"
                  class="button whitespace-nowrap"
                  @click="pickUp.mutate(v.id)"
                >
                  Pick up
                </button>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <StateNote
        v-else
        :loading="visits.isPending.value"
        :error="visits.error.value"
        empty="No visit is open. Make one, or give people the link of a queue."
        @retry="visits.refetch()"
      />
      <ProblemNote class="mt-2" :text="pickUp.error.value?.message" />
      <p class="mt-3 text-[0.92rem]">
        <RouterLink to="/pins">PINs that are open, of visits and of machines</RouterLink>
      </p>
      <label class="mt-2 flex items-center gap-2 text-[0.92rem]"
        ><input v-model="everything" type="checkbox" /> also those that are closed</label
      >
    </div>
    <aside v-if="queues.data.value?.length" aria-labelledby="queues">
      <h2 id="queues" class="mb-2">Queues</h2>
      <ul class="flex flex-col gap-2">
        <li v-for="q in queues.data.value" :key="q.name" class="sheet px-3 py-2.5" data-testid="queue">
          <p class="font-semibold">{{ q.note || q.name }}</p>
          <p :class="q.waiting ? 'font-semibold text-wait' : 'text-soft'">
            {{ q.waiting === 0 ? "Nobody waits" : q.waiting === 1 ? "1 waits" : `${q.waiting} wait` }}
          </p>
          <p class="text-[0.9rem] text-soft">{{ q.helpers.join(", ") || "Nobody helps here" }}</p>
          <p class="mono text-[0.82rem] [overflow-wrap:anywhere]">
            <a :href="q.link">{{ q.link }}</a>
          </p>
        </li>
      </ul>
    </aside>
  </div>
</template>

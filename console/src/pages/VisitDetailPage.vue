<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, defineAsyncComponent, ref } from "vue";
import { api, failure, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import VisitFiles from "../features/visits/VisitFiles.vue";
import { ago, dayAndClock } from "../lib/time";
import ProblemNote from "../ui/ProblemNote.vue";
import StateNote from "../ui/StateNote.vue";

const VisitShell = defineAsyncComponent(() => import("../features/visits/VisitShell.vue"));
const VisitScreen = defineAsyncComponent(() => import("../features/visits/VisitScreen.vue"));

/** One visit: who it is, what their computer is, what they share, and how it is closed. */
const props = defineProps<{ id: string }>();
const queries = useQueryClient();
const { data: me } = useMe();
const { zone } = useNow();
const path = { path: { id: props.id } };
const visit = useQuery({
  queryKey: ["visits", "one", props.id],
  queryFn: async () => unwrap(await api.GET("/api/v1/visits/{id}", { params: path })),
  refetchInterval: (q) => (q.state.data?.closed ? false : 4_000),
});
const queues = useQuery({
  queryKey: ["visits", "queues"],
  queryFn: async () => unwrap(await api.GET("/api/v1/queues")),
});
const v = computed(() => visit.data.value);
const mine = computed(() => v.value?.technician === me.value?.person);
const refresh = () => queries.invalidateQueries({ queryKey: ["visits"] });
const looking = ref(false);
const note = ref("");
const notes = ref("");
const outcome = ref("solved");
const to = ref("");

const pickUp = useMutation({
  mutationFn: async () => unwrap(await api.POST("/api/v1/visits/{id}/pick-up", { params: path })),
  onSuccess: refresh,
});
const reassign = useMutation({
  mutationFn: async () =>
    unwrap(await api.POST("/api/v1/visits/{id}/reassign", { params: path, body: { queue: to.value } })),
  onSuccess: refresh,
});
const addNote = useMutation({
  mutationFn: async () =>
    unwrap(await api.POST("/api/v1/visits/{id}/notes", { params: path, body: { text: note.value } })),
  onSuccess: () => {
    note.value = "";
    void refresh();
  },
});
const close = useMutation({
  mutationFn: async () =>
    unwrap(
      await api.POST("/api/v1/visits/{id}/close", {
        params: path,
        body: { outcome: outcome.value, notes: notes.value },
      }),
    ),
  onSuccess: () => {
    looking.value = false;
    void refresh();
  },
});
const keep = useMutation({
  mutationFn: async (png: Blob) => {
    const answer = await fetch(`/api/v1/visits/${props.id}/pictures`, {
      method: "POST",
      headers: { "content-type": "image/png" },
      body: png,
    });
    if (!answer.ok) throw await failure(answer);
  },
  onSuccess: refresh,
});
/** What is known of their computer, in the order in which it matters. */
const words: Record<string, string> = {
  disorder: "Warning",
  host: "Its name",
  system: "System",
  people: "Logged in",
  browser: "Browser",
  screen: "Screen",
  address: "Address",
};
const device = computed(() =>
  Object.entries(words).flatMap(([k, title]) => (v.value?.device[k] ? [{ k, title, value: v.value.device[k] }] : [])),
);
const said = (kind: string, who: string, text: string) =>
  `${who || v.value?.person || "They"}${kind === "chat" ? ":" : kind === "note" ? " noted:" : ""} ${text}`;
</script>

<template>
  <template v-if="v">
    <RouterLink to="/visits" class="inline-block py-1 text-[0.9rem] text-soft">All visits</RouterLink>
    <div class="flex flex-wrap items-start gap-4">
      <h1 class="grow" data-testid="visit-sentence">{{ v.sentence }}</h1>
      <button v-if="!v.closed && !mine" class="button" data-kind="main" @click="pickUp.mutate()">Pick up</button>
    </div>
    <ProblemNote class="mt-2" :text="pickUp.error.value?.message ?? keep.error.value?.message" />
    <div class="mt-4 grid items-start gap-5 lg:grid-cols-[minmax(0,1fr)_22rem]">
      <div class="min-w-0">
        <!-- With the program the whole screen is seen: it is looked at anew. -->
        <VisitScreen
          :key="String(v.program)"
          v-if="looking && mine && !v.ended"
          :id="id"
          :me="me?.person ?? ''"
          :person="v.person"
          @keep="keep.mutate($event)"
          @over="looking = false"
        />
        <section
          v-else-if="mine && !v.ended"
          class="sheet flex flex-wrap items-center gap-3 px-4 py-4"
          aria-label="Screen"
        >
          <p v-if="!v.arrived" class="text-wait">{{ v.person || "They" }} did not enter the PIN yet.</p>
          <template v-else-if="v.device.machine">
            <p>{{ v.person }} is at {{ v.device.machine }}. What you do there is asked on that computer.</p>
            <RouterLink
              class="button ml-auto no-underline!"
              data-kind="main"
              data-testid="to-machine"
              :to="`/machines/${encodeURIComponent(v.device.machine)}`"
              >Go to {{ v.device.machine }}</RouterLink
            >
          </template>
          <p v-else-if="!v.agreed" class="text-wait">{{ v.person }} is asked whether you may see their screen.</p>
          <p v-else-if="!v.shares" class="text-wait">{{ v.person }} agreed and chooses what to share.</p>
          <p v-else>{{ v.person }} shares their screen.</p>
          <button
            v-if="v.agreed?.length"
            class="button ml-auto"
            data-kind="main"
            data-testid="look"
            @click="looking = true"
          >
            See their screen
          </button>
        </section>
        <section v-if="v.pictures.length" class="mt-4" aria-labelledby="pictures">
          <h2 id="pictures" class="mb-2">Pictures</h2>
          <ul class="grid grid-cols-3 gap-2">
            <li v-for="p in v.pictures" :key="p.id" data-testid="visit-picture">
              <a :href="`/api/v1/visits/${id}/pictures/${p.id}`"
                ><img
                  class="w-full rounded border border-line"
                  :src="`/api/v1/visits/${id}/pictures/${p.id}`"
                  :alt="`Picture of ${dayAndClock(p.at, zone)}`"
              /></a>
            </li>
          </ul>
        </section>
        <VisitShell v-if="mine && !v.ended && (v.program || v.shell)" :visit="v" @changed="refresh" />
        <VisitFiles :visit="v" :mine="mine" @changed="refresh" />
        <h2 class="mb-2 mt-4">What happened</h2>
        <ol v-if="v.remarks.length" class="sheet divide-y divide-line" data-testid="remarks">
          <li v-for="(r, i) in v.remarks" :key="i" class="flex gap-4 px-3 py-1.5">
            <span class="mono shrink-0 text-soft">{{ dayAndClock(r.at, zone).slice(-5) }}</span>
            <span class="[overflow-wrap:anywhere]" :class="r.kind === 'consent' ? 'font-semibold' : ''">{{
              said(r.kind, r.who, r.text)
            }}</span>
          </li>
        </ol>
        <p v-else class="text-soft">Nothing yet.</p>
        <form v-if="mine && !v.closed" class="mt-3 flex gap-2" @submit.prevent="addNote.mutate()">
          <label class="grow"
            ><span class="sr-only">Note</span
            ><input
              v-model="note"
              class="field w-full"
              name="note"
              maxlength="1000"
              required
              placeholder="Write a note; it goes to the ticket"
          /></label>
          <button class="button" :disabled="addNote.isPending.value">Note</button>
        </form>
        <ProblemNote class="mt-2" :text="addNote.error.value?.message" />
      </div>
      <div class="flex flex-col gap-4">
        <section class="sheet px-4 py-3.5" aria-label="About">
          <dl class="grid grid-cols-[6rem_1fr] gap-y-1 [&>dt]:text-soft">
            <dt>About</dt>
            <dd>{{ v.reason || "not said" }}</dd>
            <template v-if="v.ticket"
              ><dt>Ticket</dt>
              <dd class="mono">{{ v.ticket }}</dd></template
            >
            <dt>Queue</dt>
            <dd>{{ v.queue }}</dd>
            <dt>Helps</dt>
            <dd>{{ v.technician ?? "nobody yet" }}</dd>
            <template v-if="v.mail"
              ><dt>Mail</dt>
              <dd class="[overflow-wrap:anywhere]">{{ v.mail }}</dd></template
            >
            <dt>Came</dt>
            <dd>{{ v.arrived ? ago(v.arrived) : "not yet" }}</dd>
            <dt>Agreed</dt>
            <dd>{{ v.agreed ? v.agreed.join(", ") || "to nothing" : "not asked yet" }}</dd>
            <template v-for="d in device" :key="d.k"
              ><dt>{{ d.title }}</dt>
              <dd :class="d.k === 'disorder' ? 'font-semibold text-wait' : ''">{{ d.value }}</dd></template
            >
            <template v-if="v.sessions.length"
              ><dt>Sessions</dt>
              <dd>
                <RouterLink
                  v-for="s in v.sessions"
                  :key="s"
                  :to="`/sessions/${s}`"
                  class="mono mr-2 inline-block py-0.5"
                  >{{ s }}</RouterLink
                >
              </dd></template
            >
          </dl>
          <p v-if="v.device.machine" class="mt-2 text-[0.85rem] text-soft">A managed machine: its agent says so.</p>
          <p v-else-if="device.length" class="mt-2 text-[0.85rem] text-soft">
            Not a managed computer: this is what its {{ v.device.host ? "program for the visit" : "browser" }} says.
          </p>
        </section>
        <section v-if="v.closed" class="sheet px-4 py-3.5" aria-label="Closed">
          <p>
            <b>{{ v.outcome }}</b>, closed {{ ago(v.closed) }}.
          </p>
          <p v-if="v.notes">{{ v.notes }}</p>
        </section>
        <form v-else-if="mine" class="sheet flex flex-col gap-3 px-4 py-3.5" @submit.prevent="close.mutate()">
          <h2>Close it</h2>
          <p v-if="v.state === 'ended'" class="text-wait">{{ v.person || "They" }} left. Say how it went.</p>
          <label
            ><span class="label">How did it go?</span
            ><select v-model="outcome" class="field w-full" name="outcome">
              <option value="solved">Solved</option>
              <option value="unsolved">Not solved</option>
              <option value="no-show">Nobody came</option>
              <option value="refused">Refused</option>
            </select></label
          >
          <label
            ><span class="label">For the ticket</span
            ><textarea v-model="notes" class="field w-full" rows="3" name="closing" maxlength="2000" />
          </label>
          <button class="button self-start" data-kind="main" data-testid="close-visit">Close the visit</button>
          <ProblemNote :text="close.error.value?.message" />
        </form>
        <form
          v-if="mine && v.state === 'waiting' && (queues.data.value?.length ?? 0) > 0"
          class="sheet flex flex-wrap items-end gap-2 px-4 py-3.5"
          @submit.prevent="reassign.mutate()"
        >
          <label class="grow"
            ><span class="label">Pass it on to</span
            ><select v-model="to" class="field w-full" required>
              <option v-for="q in queues.data.value" :key="q.name" :value="q.name">{{ q.note || q.name }}</option>
            </select></label
          >
          <button class="button">Pass on</button>
          <ProblemNote class="w-full" :text="reassign.error.value?.message" />
        </form>
      </div>
    </div>
  </template>
  <StateNote v-else :loading="visit.isPending.value" :error="visit.error.value" @retry="visit.refetch()" />
</template>

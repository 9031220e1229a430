<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import { proven } from "../composables/useProve";
import StopButton from "../features/live/StopButton.vue";
import CheckList from "../features/machines/CheckList.vue";
import MachineAgent from "../features/machines/MachineAgent.vue";
import MachineCredentials from "../features/machines/MachineCredentials.vue";
import MachineState from "../features/machines/MachineState.vue";
import { useCheck } from "../features/machines/useCheck";
import SessionTable from "../features/sessions/SessionTable.vue";
import { ago } from "../lib/time";
import ProblemNote from "../ui/ProblemNote.vue";
import StateNote from "../ui/StateNote.vue";

const props = defineProps<{ name: string }>();
const router = useRouter();
const queries = useQueryClient();
const { readsAll } = useMe();
const { zone } = useNow();
const path = computed(() => ({ path: { name: props.name } }));
const machine = useQuery({
  queryKey: ["machines", "one", () => props.name],
  queryFn: async () => unwrap(await api.GET("/api/v1/machines/{name}", { params: path.value })),
});
const sessions = useQuery({
  queryKey: ["sessions", "on", () => props.name],
  queryFn: async () =>
    unwrap(await api.GET("/api/v1/sessions", { params: { query: { machine: props.name, limit: 8 } } })).items,
});
const d = computed(() => machine.data.value);
const m = computed(() => d.value?.machine);
const manages = computed(() => d.value?.may.includes("manage") ?? false);
const facts = computed(() => d.value?.facts as Facts | null | undefined);
const refresh = () => queries.invalidateQueries({ queryKey: ["machines"] });

/** What agents say; the API describes it as an object. */
interface Facts {
  host: string;
  addresses: string[];
  system: { name: string; version: string; kernel: string };
  hardware: { model: string; processor: string; cores: number; memory_mib: number };
  booted: string | null;
  users: { account: string; terminal: string; from: string }[];
  listening: { address: string; port: number }[];
  order: { encrypted: boolean | null; firewall: boolean | null; updates: number | null };
}
const known = (yes: boolean | null, good: string, bad: string) => (yes === null ? null : yes ? good : bad);
const order = computed(() => {
  const o = facts.value?.order;
  if (!o) return "";
  const updates = o.updates === null ? null : o.updates === 0 ? "no updates pending" : `${o.updates} updates pending`;
  const all = [
    known(o.encrypted, "disks encrypted", "disks not encrypted"),
    known(o.firewall, "firewall on", "firewall off"),
    updates,
  ];
  return all.filter(Boolean).join(", ") || "its agent cannot tell";
});

const { steps, done, running, error, check } = useCheck();
const results = computed(() => (running.value || done.value ? steps.value : (d.value?.check?.results ?? [])));
const verdict = computed(() => done.value?.sentence ?? d.value?.check?.sentence);

const why = ref("");
const compared = ref(false);
const accept = useMutation({
  mutationFn: () =>
    proven(async () =>
      unwrap(
        await api.POST("/api/v1/machines/{name}/host-key", {
          params: path.value,
          body: { fingerprint: d.value!.other_host_key!.fingerprint, why: why.value },
        }),
      ),
    ),
  onSuccess: refresh,
});
const retiring = ref(false);
const retire = useMutation({
  mutationFn: () =>
    proven(async () =>
      unwrap(await api.POST("/api/v1/machines/{name}/retire", { params: path.value, body: { why: why.value } })),
    ),
  onSuccess: () => {
    void refresh();
    void router.push("/machines");
  },
});
</script>

<template>
  <template v-if="d && m">
    <div class="flex flex-wrap items-baseline gap-x-4 gap-y-2">
      <h1 class="max-w-5xl">{{ d.sentence }}</h1>
      <span class="ml-auto flex gap-3">
        <RouterLink
          v-for="w in d.ways.filter((way) => way.kind === 'desktop')"
          :key="w.name"
          class="button no-underline!"
          :to="{ path: `/machines/${name}/desktop`, query: { way: w.name } }"
          data-testid="open-desktop"
          >See its {{ w.name }}</RouterLink
        >
        <StopButton v-if="manages && d.machine.live" :which="{ machine: name }" name="its sessions" />
        <button v-if="manages && !retiring" class="button" @click="retiring = true">Retire</button>
        <button
          v-if="manages"
          class="button"
          data-kind="main"
          data-testid="check-machine"
          :disabled="running"
          @click="check(name)"
        >
          {{ running ? "Checking …" : "Check it now" }}
        </button>
      </span>
    </div>
    <form
      v-if="retiring"
      class="sheet mt-4 flex max-w-3xl flex-wrap items-end gap-3 px-4 py-3.5"
      @submit.prevent="retire.mutate()"
    >
      <label class="min-w-72 flex-1"
        ><span class="label">Why does it leave the list? What was logged stays.</span
        ><input v-model="why" class="field w-full" required maxlength="500" v-focus
      /></label>
      <button class="button" data-kind="main">Retire {{ name }}</button>
      <button type="button" class="button" @click="retiring = false">Cancel</button>
      <ProblemNote class="w-full" :text="retire.error.value?.message" />
    </form>
    <section
      v-if="d.other_host_key"
      class="sheet mt-4 border-l-4 border-l-viol bg-violbg px-4 py-3.5"
      aria-labelledby="other-key"
    >
      <h2 id="other-key">
        <span class="text-viol">▲</span> It shows another host key since {{ ago(d.other_host_key.first) }}
      </h2>
      <dl class="my-2 grid grid-cols-[8rem_1fr] gap-y-1">
        <dt>It shows</dt>
        <dd class="mono [overflow-wrap:anywhere]">{{ d.other_host_key.fingerprint }}</dd>
        <dt>Pinned is</dt>
        <dd class="mono [overflow-wrap:anywhere]">{{ d.host_key }}</dd>
      </dl>
      <p>
        Nothing is sent to it until somebody accepts the new key. If it was set up anew, compare at the machine itself:
        <code>ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub</code>. If it was not, somebody stands between.
      </p>
      <form v-if="manages" class="mt-3 flex flex-wrap items-end gap-3" @submit.prevent="accept.mutate()">
        <label class="flex items-center gap-2 self-center"
          ><input v-model="compared" type="checkbox" required /> I compared it at the machine</label
        >
        <label class="min-w-72 flex-1"
          ><span class="label">Why was it changed?</span
          ><input v-model="why" class="field w-full" name="accept-why" required maxlength="500"
        /></label>
        <button class="button" :disabled="!compared || accept.isPending.value">Accept the new key</button>
        <ProblemNote class="w-full" :text="accept.error.value?.message" />
      </form>
    </section>
    <div class="mt-4 grid items-start gap-4 lg:grid-cols-2">
      <section class="sheet px-4 py-3.5" aria-label="About">
        <dl class="grid grid-cols-[8rem_1fr] gap-y-1">
          <dt class="text-soft">State</dt>
          <dd><MachineState :machine="m" /></dd>
          <dt class="text-soft">Address</dt>
          <dd class="mono">{{ m.address || "none" }}</dd>
          <template v-for="w in d.ways" :key="w.name">
            <dt class="text-soft">Way in</dt>
            <dd>
              {{ w.name }} ({{ w.kind }})
              <span class="mono text-soft">{{ w.address }}</span>
            </dd>
          </template>
          <dt class="text-soft">Site, owner</dt>
          <dd>{{ [m.site, m.owner].filter(Boolean).join(", ") || "none" }}</dd>
          <dt class="text-soft">Labels</dt>
          <dd class="mono">{{ [...m.labels, ...d.groups].join(" ") || "none" }}</dd>
          <dt class="text-soft">Accounts</dt>
          <dd class="mono">{{ m.accounts.join(" ") || "none" }}</dd>
          <dt class="text-soft">Host key</dt>
          <dd class="mono [overflow-wrap:anywhere]">{{ d.host_key ?? "none pinned" }}</dd>
          <dt class="text-soft">For</dt>
          <dd>{{ m.note || "not said" }}</dd>
          <dt class="text-soft">Who reaches it</dt>
          <dd><RouterLink :to="{ path: '/reach', query: { machine: name } }">by the rules</RouterLink></dd>
          <template v-if="readsAll">
            <dt class="text-soft">Who was on it</dt>
            <dd>
              <RouterLink :to="{ path: '/accesses', query: { machine: name } }">through Aerie and around it</RouterLink>
            </dd>
          </template>
        </dl>
        <template v-if="facts">
          <h2 class="mb-2 mt-5">Its agent says</h2>
          <dl class="grid grid-cols-[8rem_1fr] gap-y-1">
            <dt class="text-soft">Calls itself</dt>
            <dd>
              {{ facts.host }} <span class="mono text-soft">{{ facts.addresses.join(" ") }}</span>
            </dd>
            <dt class="text-soft">System</dt>
            <dd>
              {{ facts.system.name }} {{ facts.system.version }}
              <span class="text-soft">{{ facts.system.kernel }}</span>
            </dd>
            <dt class="text-soft">Hardware</dt>
            <dd>
              {{ [facts.hardware.model, facts.hardware.processor].filter(Boolean).join(", ") }},
              {{ facts.hardware.cores }} cores, {{ (facts.hardware.memory_mib / 1024).toFixed(1) }} GiB
            </dd>
            <template v-if="facts.booted"
              ><dt class="text-soft">Started</dt>
              <dd>{{ ago(facts.booted) }}</dd></template
            >
            <dt class="text-soft">Logged in</dt>
            <dd>{{ facts.users.map((u) => `${u.account} on ${u.terminal}`).join(", ") || "nobody" }}</dd>
            <dt class="text-soft">Listens on</dt>
            <dd class="mono">{{ facts.listening.map((l) => `${l.address}:${l.port}`).join(" ") || "nothing" }}</dd>
            <dt class="text-soft">Good order</dt>
            <dd>{{ order }}</dd>
          </dl>
        </template>
      </section>
      <div class="flex flex-col gap-4">
        <section v-if="results.length || running || error" class="sheet px-4 py-3.5" aria-labelledby="ready">
          <h2 id="ready" class="mb-2">
            Is it ready?
            <span v-if="!running && d.check" class="font-normal text-soft">{{
              done ? "just now" : `looked at ${ago(d.check.at)}`
            }}</span>
          </h2>
          <CheckList :results="results" :running="running" />
          <p v-if="verdict && !running" class="mt-2" role="status">{{ verdict }}</p>
          <ProblemNote :text="error" />
        </section>
        <MachineAgent v-if="manages || d.agent" :detail="d" :zone="zone" :manages="manages" />
        <MachineCredentials v-if="manages || readsAll" :detail="d" :manages="manages" />
      </div>
    </div>
    <section v-if="sessions.data.value?.length" class="mt-5" aria-labelledby="sessions">
      <h2 id="sessions" class="mb-2">Last sessions</h2>
      <SessionTable :sessions="sessions.data.value" :zone="zone" :can-end="false" />
    </section>
  </template>
  <StateNote v-else :loading="machine.isPending.value" :error="machine.error.value" @retry="machine.refetch()" />
</template>

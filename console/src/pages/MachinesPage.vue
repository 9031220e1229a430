<script setup lang="ts">
import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, reactive, ref } from "vue";
import { useRouter } from "vue-router";
import { api, unwrap, type Machine } from "../api/client";
import { useFilter } from "../composables/useFilter";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import { proven } from "../composables/useProve";
import CodeShown from "../features/machines/CodeShown.vue";
import MachineState from "../features/machines/MachineState.vue";
import { ago, dayAndClock } from "../lib/time";
import MoreButton from "../ui/MoreButton.vue";
import ProblemNote from "../ui/ProblemNote.vue";
import StateNote from "../ui/StateNote.vue";

const STATES = ["online", "offline", "code issued", "no agent", "incomplete"];
const router = useRouter();
const queries = useQueryClient();
const { may } = useMe();
const { zone } = useNow();
const manages = computed(() => may("manage-machines"));
const { filter, text, narrow, narrowed } = useFilter("q", "state", "site");

const list = useInfiniteQuery({
  queryKey: ["machines", "list", filter],
  initialPageParam: undefined as string | undefined,
  placeholderData: keepPreviousData,
  queryFn: async ({ pageParam }) => {
    const f = filter.value;
    const query = { q: f.q || undefined, state: f.state || undefined, site: f.site || undefined, after: pageParam };
    return unwrap(await api.GET("/api/v1/machines", { params: { query } }));
  },
  getNextPageParam: (page) => page.next ?? undefined,
});
const first = computed(() => list.data.value?.pages[0]);
const machines = computed(() => list.data.value?.pages.flatMap((p) => p.machines) ?? []);
const codes = useQuery({
  queryKey: ["codes"],
  enabled: manages,
  queryFn: async () => unwrap(await api.GET("/api/v1/enrolment-codes")),
});
const refresh = () => queries.invalidateQueries({ queryKey: ["machines"] });

const favour = useMutation({
  mutationFn: async (m: Machine) => {
    const params = { path: { name: m.name } };
    return unwrap(
      await (m.favourite
        ? api.DELETE("/api/v1/machines/{name}/favourite", { params })
        : api.PUT("/api/v1/machines/{name}/favourite", { params })),
    );
  },
  onSuccess: refresh,
});

const adding = ref<"" | "machine" | "site">("");
const form = reactive({ name: "", via: "agent", address: "", site: "", owner: "", labels: "", accounts: "", note: "" });
const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);
const add = useMutation({
  mutationFn: () =>
    proven(async () => {
      const { name, labels, accounts, ...rest } = form;
      const about = { ...rest, labels: words(labels), accounts: words(accounts) };
      return unwrap(await api.POST("/api/v1/machines", { body: { name: name.trim(), about } }));
    }),
  onSuccess: (made) => {
    void refresh();
    void router.push(`/machines/${made.name}`);
  },
});
const many = reactive({ site: "", uses: 10, labels: "" });
const issue = useMutation({
  mutationFn: () =>
    proven(async () => {
      const body = { site: many.site, uses: many.uses, labels: words(many.labels) };
      return unwrap(await api.POST("/api/v1/enrolment-codes", { body }));
    }),
  onSuccess: () => queries.invalidateQueries({ queryKey: ["codes"] }),
});
const withdraw = useMutation({
  mutationFn: async (id: string) =>
    unwrap(await api.DELETE("/api/v1/enrolment-codes/{id}", { params: { path: { id } } })),
  onSuccess: () => queries.invalidateQueries({ queryKey: ["codes"] }),
});
</script>

<template>
  <div class="flex flex-wrap items-baseline gap-x-3">
    <h1>{{ first?.sentence ?? "Machines" }}</h1>
    <span v-if="manages && !adding" class="ml-auto flex gap-3">
      <button class="button" data-testid="site-code" @click="adding = 'site'">Code for a site</button>
      <button class="button" data-kind="main" data-testid="add-machine" @click="adding = 'machine'">
        Register a machine
      </button>
    </span>
  </div>
  <form
    v-if="adding === 'machine'"
    class="sheet mt-4 grid max-w-5xl grid-cols-2 gap-3 px-4 py-3.5 lg:grid-cols-3"
    @submit.prevent="add.mutate()"
  >
    <label
      ><span class="label">Name</span
      ><input
        v-model="form.name"
        class="field mono w-full"
        name="machine-name"
        required
        maxlength="64"
        pattern="[a-z0-9][a-z0-9._\-]*"
        v-focus
    /></label>
    <label
      ><span class="label">How it is reached</span
      ><select v-model="form.via" class="field w-full" name="machine-via">
        <option value="agent">Through an agent on it</option>
        <option value="relay">Through a relay of its site</option>
        <option value="direct">Directly, over the network</option>
      </select></label
    >
    <label
      ><span class="label">SSH server, as host:port</span
      ><input
        v-model="form.address"
        class="field mono w-full"
        name="machine-address"
        :placeholder="form.via === 'agent' ? '127.0.0.1:22' : '10.20.0.7:22'"
    /></label>
    <label><span class="label">Site</span><input v-model="form.site" class="field w-full" name="machine-site" /></label>
    <label
      ><span class="label">Who looks after it</span
      ><input v-model="form.owner" class="field w-full" name="machine-owner"
    /></label>
    <label
      ><span class="label">Accounts that may be used</span
      ><input v-model="form.accounts" class="field mono w-full" name="machine-accounts" placeholder="operator"
    /></label>
    <label
      ><span class="label">Labels</span
      ><input v-model="form.labels" class="field mono w-full" name="machine-labels" placeholder="instrument tier=1"
    /></label>
    <label class="col-span-2"
      ><span class="label">What it is for</span><input v-model="form.note" class="field w-full" name="machine-note"
    /></label>
    <span class="col-span-full flex gap-3">
      <button class="button" data-kind="main" :disabled="add.isPending.value">Register</button>
      <button type="button" class="button" @click="adding = ''">Cancel</button>
    </span>
    <ProblemNote class="col-span-full" :text="add.error.value?.message" />
  </form>
  <form
    v-if="adding === 'site'"
    class="sheet mt-4 flex max-w-5xl flex-wrap items-end gap-3 px-4 py-3.5"
    @submit.prevent="issue.mutate()"
  >
    <label
      ><span class="label">Site</span><input v-model="many.site" class="field" name="code-site" required v-focus
    /></label>
    <label
      ><span class="label">For so many machines</span
      ><input v-model.number="many.uses" type="number" class="field w-28" name="code-uses" min="1" max="10000"
    /></label>
    <label
      ><span class="label">Labels they get</span><input v-model="many.labels" class="field mono" name="code-labels"
    /></label>
    <button class="button" data-kind="main" :disabled="issue.isPending.value">Issue a code</button>
    <button type="button" class="button" @click="adding = ''">Close</button>
    <ProblemNote class="w-full" :text="issue.error.value?.message" />
    <CodeShown v-if="issue.data.value" class="w-full" :issued="issue.data.value" :zone="zone" />
  </form>
  <ul v-if="codes.data.value?.length" class="sheet mt-4 divide-y divide-line" aria-label="Codes that are good">
    <li v-for="c in codes.data.value" :key="c.id" class="flex flex-wrap items-baseline gap-x-4 px-4 py-1.5">
      <span
        >A code for <strong>{{ c.machine ?? `${c.uses_left} of the site ${c.site}` }}</strong> is out, issued by
        {{ c.made_by }}, until {{ dayAndClock(c.expires, zone) }}.</span
      >
      <button
        class="button ml-auto"
        :aria-label="`Withdraw the code for ${c.machine ?? c.site}`"
        @click="withdraw.mutate(c.id)"
      >
        Withdraw
      </button>
    </li>
  </ul>
  <div class="mb-3 mt-4 flex flex-wrap items-center gap-3">
    <label class="w-96"
      ><span class="sr-only">Find machines by a few letters</span
      ><input
        v-model="text"
        type="search"
        class="field w-full"
        placeholder="A few letters of name, address, owner, system, user …"
        data-testid="find-machines"
        @input="narrow({ q: text.trim() })"
    /></label>
    <label
      ><span class="sr-only">State</span
      ><select
        class="field"
        :value="filter.state"
        @change="narrow({ state: ($event.target as HTMLSelectElement).value })"
      >
        <option value="">Any state</option>
        <option v-for="s in STATES" :key="s" :value="s">{{ s }}</option>
      </select></label
    >
    <label v-if="first?.sites.length"
      ><span class="sr-only">Site</span
      ><select
        class="field"
        :value="filter.site"
        @change="narrow({ site: ($event.target as HTMLSelectElement).value })"
      >
        <option value="">Any site</option>
        <option v-for="s in first.sites" :key="s" :value="s">{{ s }}</option>
      </select></label
    >
  </div>
  <div v-if="machines.length" class="sheet overflow-x-auto">
    <table class="w-full">
      <thead>
        <tr class="border-b border-line">
          <th class="w-8 py-1.5 pl-3"><span class="sr-only">Favourite</span></th>
          <th class="pr-4">Machine</th>
          <th class="px-4">Site</th>
          <th class="px-4">State</th>
          <th class="px-4">Way</th>
          <th class="px-4">System, and who is logged in</th>
          <th class="px-4">For</th>
          <th class="px-4 text-right">Live</th>
          <th class="px-4">Last heard of</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="m in machines"
          :key="m.name"
          class="border-b border-line align-baseline last:border-0"
          data-testid="machine-row"
        >
          <td class="py-1 pl-3">
            <button
              class="h-7 w-7 text-[1.1rem] leading-none"
              :class="m.favourite ? 'text-accent' : 'text-soft'"
              :aria-label="`${m.name} is a favourite`"
              :aria-pressed="m.favourite"
              @click="favour.mutate(m)"
            >
              {{ m.favourite ? "★" : "☆" }}
            </button>
          </td>
          <td class="whitespace-nowrap pr-4">
            <RouterLink :to="`/machines/${m.name}`" class="font-semibold">{{ m.name }}</RouterLink>
            <span v-if="m.recent" class="ml-2 text-soft">lately</span>
          </td>
          <td class="px-4">{{ m.site }}</td>
          <td class="px-4"><MachineState :machine="m" /></td>
          <td class="px-4">{{ m.via }}</td>
          <td class="px-4">
            {{ m.system
            }}<span v-if="m.users.length" class="text-soft">{{ m.system ? ", " : "" }}{{ m.users.join(" ") }}</span>
          </td>
          <td class="max-w-80 truncate px-4 text-soft" :title="m.note">{{ m.note }}</td>
          <td class="px-4 text-right">{{ m.live || "" }}</td>
          <td class="whitespace-nowrap px-4 text-soft">
            {{ m.state === "online" ? "now" : m.last_seen ? ago(m.last_seen) : "" }}
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <StateNote
    v-else
    :loading="list.isPending.value"
    :error="list.error.value"
    :empty="narrowed ? 'No machine has these letters.' : 'No machine is registered, or no rule gives you one.'"
    @retry="list.refetch()"
  />
  <MoreButton
    v-if="list.hasNextPage.value"
    :loading="list.isFetchingNextPage.value"
    :shown="machines.length"
    noun="machines"
    @more="list.fetchNextPage()"
  />
</template>

<script setup lang="ts">
import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap, type Machine } from "../api/client";
import { useFilter } from "../composables/useFilter";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import MachineState from "../features/machines/MachineState.vue";
import RegisterForm from "../features/machines/RegisterForm.vue";
import SiteCodeForm from "../features/machines/SiteCodeForm.vue";
import { ago, dayAndClock } from "../lib/time";
import MoreButton from "../ui/MoreButton.vue";
import StateNote from "../ui/StateNote.vue";

const STATES = ["online", "offline", "code issued", "no agent", "incomplete"];
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
  <RegisterForm v-if="adding === 'machine'" class="mt-4" @close="adding = ''" />
  <SiteCodeForm v-if="adding === 'site'" class="mt-4" :zone="zone" @close="adding = ''" />
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

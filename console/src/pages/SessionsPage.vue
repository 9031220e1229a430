<script setup lang="ts">
import { useInfiniteQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, unwrap } from "../api/client";
import { useFilter } from "../composables/useFilter";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import SessionTable from "../features/sessions/SessionTable.vue";
import { useEndSession } from "../features/sessions/useEndSession";
import ChoiceBar from "../ui/ChoiceBar.vue";
import MoreButton from "../ui/MoreButton.vue";
import StateNote from "../ui/StateNote.vue";

const { readsAll, administers } = useMe();
const { zone } = useNow();
const end = useEndSession();

const { filter, text, narrow, narrowed } = useFilter("q", "state", "person", "machine");

const list = useInfiniteQuery({
  queryKey: ["sessions", "list", filter],
  initialPageParam: undefined as string | undefined,
  queryFn: async ({ pageParam }) => {
    const f = filter.value;
    const query = {
      q: f.q || undefined,
      state: f.state || undefined,
      person: f.person || undefined,
      machine: f.machine || undefined,
      after: pageParam,
      limit: 50,
    };
    return unwrap(await api.GET("/api/v1/sessions", { params: { query } }));
  },
  getNextPageParam: (page) => page.next ?? undefined,
});
const sessions = computed(() => list.data.value?.pages.flatMap((p) => p.items) ?? []);
const STATES = [
  ["", "All"],
  ["live", "Live"],
  ["ended", "Ended"],
] as const;
</script>

<template>
  <h1>
    {{ readsAll ? "Sessions" : "Your sessions" }}<template v-if="filter.machine"> on {{ filter.machine }}</template
    ><template v-if="filter.person"> of {{ filter.person }}</template>
  </h1>
  <form class="mb-3 mt-4 flex flex-wrap items-center gap-3" role="search" @submit.prevent="narrow({ q: text })">
    <label>
      <span class="sr-only">Person, machine, account, address or identifier</span>
      <input
        v-model="text"
        type="search"
        class="field w-80"
        placeholder="Person, machine, account, address"
        data-testid="search"
        @search="narrow({ q: text })"
      />
    </label>
    <ChoiceBar
      legend="State"
      name="state"
      :choices="STATES"
      :chosen="filter.state"
      @choose="narrow({ state: $event })"
    />
    <button v-if="narrowed" type="button" class="button" @click="narrow({ q: '', state: '', person: '', machine: '' })">
      Clear
    </button>
  </form>
  <SessionTable
    v-if="sessions.length"
    :sessions="sessions"
    :zone="zone"
    :can-end="administers"
    @end="end.mutate($event.id)"
  />
  <StateNote
    v-else
    :loading="list.isPending.value"
    :error="list.error.value"
    :empty="narrowed ? 'No session matches. Search for less, or clear the filter.' : 'There was no session yet.'"
    @retry="list.refetch()"
  />
  <MoreButton
    v-if="list.hasNextPage.value"
    :loading="list.isFetchingNextPage.value"
    :shown="sessions.length"
    noun="sessions"
    @more="list.fetchNextPage()"
  />
</template>

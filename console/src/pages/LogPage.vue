<script setup lang="ts">
import { useInfiniteQuery, useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap } from "../api/client";
import { useNow } from "../composables/useNow";
import { clockSeconds, longDay } from "../lib/time";
import CodeText from "../ui/CodeText.vue";
import MoreButton from "../ui/MoreButton.vue";
import StateNote from "../ui/StateNote.vue";

const { zone } = useNow();
const text = ref("");
const search = ref("");
const list = useInfiniteQuery({
  queryKey: ["log", "list", search],
  initialPageParam: undefined as string | undefined,
  queryFn: async ({ pageParam }) => {
    const query = { q: search.value || undefined, after: pageParam ? Number(pageParam) : undefined, limit: 100 };
    return unwrap(await api.GET("/api/v1/log", { params: { query } }));
  },
  getNextPageParam: (page) => page.next ?? undefined,
});
const events = computed(() => list.data.value?.pages.flatMap((p) => p.items) ?? []);
const days = computed(() => {
  const found: { day: string; events: typeof events.value }[] = [];
  for (const e of events.value) {
    const day = longDay(e.at, zone.value);
    if (found.at(-1)?.day !== day) found.push({ day, events: [] });
    found.at(-1)!.events.push(e);
  }
  return found;
});
const verified = useQuery({
  queryKey: ["verified-log"],
  queryFn: async () => unwrap(await api.POST("/api/v1/log/verify")),
  enabled: false,
});
</script>

<template>
  <div class="flex flex-wrap items-start gap-4">
    <h1 class="grow">
      <template v-if="verified.data.value?.holds"
        >The log holds: {{ verified.data.value.events.toLocaleString("en") }} events,
        {{ verified.data.value.checkpoints }} signed checkpoints.</template
      >
      <template v-else-if="verified.data.value"
        ><span class="text-viol">{{ verified.data.value.sentence }}</span></template
      >
      <template v-else>Everything that happened, in order.</template>
    </h1>
    <button class="button" :disabled="verified.isFetching.value" data-testid="verify-log" @click="verified.refetch()">
      {{ verified.isFetching.value ? "Verifying…" : "Verify the log" }}
    </button>
  </div>
  <ul
    v-if="verified.data.value && !verified.data.value.holds"
    class="mt-3 border-l-4 border-l-viol bg-violbg px-4 py-3"
    role="alert"
  >
    <li v-for="p in verified.data.value.problems" :key="p.sentence">{{ p.sentence }}</li>
  </ul>
  <p v-if="verified.data.value" class="mt-1 text-[0.9rem] text-soft">
    Root <code class="break-all">{{ verified.data.value.root }}</code>
  </p>
  <form class="mb-4 mt-4" role="search" @submit.prevent="search = text">
    <label>
      <span class="sr-only">Text in the event</span>
      <input
        v-model="text"
        type="search"
        class="field w-80"
        placeholder="Person, machine, file, address"
        @search="search = text"
      />
    </label>
  </form>
  <section v-for="d in days" :key="d.day" class="mb-5">
    <h2 class="mb-1.5">{{ d.day }}</h2>
    <div class="sheet overflow-x-auto">
      <table class="w-full">
        <thead class="sr-only">
          <tr>
            <th scope="col">Number</th>
            <th scope="col">Time</th>
            <th scope="col">Event</th>
            <th scope="col">Hash</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="e in d.events"
            :key="e.seq"
            class="border-b border-line align-top last:border-0 [&>td]:px-3 [&>td]:py-1.5"
            data-testid="event"
          >
            <td class="mono w-16 text-right text-soft">{{ e.seq }}</td>
            <td class="mono w-24">{{ clockSeconds(e.at, zone) }}</td>
            <td>
              <CodeText :text="e.sentence" />
              <RouterLink
                v-if="e.session"
                :to="`/sessions/${e.session}`"
                class="ml-1 whitespace-nowrap text-[0.9rem] text-soft"
                >session</RouterLink
              >
            </td>
            <td class="mono hidden w-28 text-right text-soft lg:table-cell" :title="e.leaf">
              {{ e.leaf?.slice(0, 8) }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
  <StateNote
    v-if="!events.length"
    :loading="list.isPending.value"
    :error="list.error.value"
    :empty="search ? 'No event matches.' : 'Nothing has happened yet.'"
    @retry="list.refetch()"
  />
  <MoreButton
    v-if="list.hasNextPage.value"
    :loading="list.isFetchingNextPage.value"
    :shown="events.length"
    noun="events"
    @more="list.fetchNextPage()"
  />
</template>

<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed, defineAsyncComponent, ref } from "vue";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import LivePeople from "../features/live/LivePeople.vue";
import { useLive } from "../features/live/useLive";
import { clock } from "../lib/time";
import { useEndSession } from "../features/sessions/useEndSession";
import StateNote from "../ui/StateNote.vue";

const DesktopTile = defineAsyncComponent(() => import("../features/desktop/DesktopTile.vue"));
const LiveTerminal = defineAsyncComponent(() => import("../features/live/LiveTerminal.vue"));

/** Live terminals and desktops side by side; one of them large. */
const MOST = 12;
const { data: me, administers } = useMe();
const { zone } = useNow();
const end = useEndSession();
const listed = useQuery({
  queryKey: ["sessions", "live"],
  queryFn: async () => unwrap(await api.GET("/api/v1/sessions", { params: { query: { state: "live", limit: 100 } } })),
  refetchInterval: 15_000,
});
const all = computed(() =>
  (listed.data.value?.items ?? []).filter((s) => s.uses.some((u) => u === "shell" || u === "exec" || u === "view")),
);
const shown = computed(() => all.value.slice(0, MOST));
const large = ref("");
const isDesktop = (s: { uses: string[] }) => s.uses.includes("view");
const live = useLive(computed(() => shown.value.filter((s) => !isDesktop(s)).map((s) => s.id)));
const others = computed(() => (listed.data.value?.items.length ?? 0) - shown.value.length);
const sentence = computed(() => {
  if (!listed.data.value) return "Live sessions";
  const n = shown.value.length;
  if (!n) return "No terminal or desktop is live now.";
  return n === 1 ? "1 session is live." : `${n} sessions are live.`;
});
</script>

<template>
  <h1>{{ sentence }}</h1>
  <p class="mt-1 text-soft">
    You see those that the rules let you watch; that you watch is in the log<template v-if="others > 0"
      >. {{ others }} more {{ others === 1 ? "session has" : "sessions have" }} nothing to be seen or did not fit
      here</template
    >.
  </p>
  <StateNote
    v-if="!listed.data.value"
    :loading="listed.isPending.value"
    :error="listed.error.value"
    @retry="listed.refetch()"
  />
  <ul v-else class="mt-4 grid items-start gap-4 lg:grid-cols-2 xl:grid-cols-3" aria-label="Live sessions">
    <li
      v-for="s in shown"
      :key="s.id"
      class="sheet min-w-0 p-3"
      :class="large === s.id ? 'order-first lg:col-span-2 xl:col-span-3' : ''"
      data-testid="tile"
    >
      <div class="mb-2 flex flex-wrap items-baseline gap-x-3">
        <RouterLink :to="`/sessions/${s.id}`" class="font-semibold">{{ s.person_name }}</RouterLink>
        <span>on {{ s.machine }} as {{ s.account }}</span>
        <span class="text-soft">since {{ clock(s.began, zone) }}</span>
        <span class="ml-auto flex gap-2">
          <button class="button" :aria-pressed="large === s.id" @click="large = large === s.id ? '' : s.id">
            {{ large === s.id ? "Smaller" : "Larger" }}
          </button>
          <button v-if="administers" class="button" @click="end.mutate(s.id)">End</button>
        </span>
      </div>
      <p v-if="isDesktop(s) && s.person === me?.person" class="py-3">
        <RouterLink :to="`/sessions/${s.id}/desktop`">Your own: go on with it</RouterLink>
      </p>
      <template v-else-if="isDesktop(s)">
        <DesktopTile :session="s.id" :name="`Screen of ${s.machine}, with ${s.person_name}`" />
        <RouterLink class="mt-2 inline-block text-[0.9rem]" :to="`/sessions/${s.id}/desktop`"
          >Open it by itself</RouterLink
        >
      </template>
      <template v-else-if="live.sessions[s.id]">
        <p v-if="live.sessions[s.id]!.over" class="py-3 text-soft">{{ live.sessions[s.id]!.over }}</p>
        <template v-else>
          <LiveTerminal
            v-for="c in live.sessions[s.id]!.terminals"
            :key="`${c}-${large === s.id}`"
            class="mb-2"
            :live="live"
            :session="s.id"
            :channel="c"
            :name="`${s.person_name} on ${s.machine}`"
          />
          <p v-if="!live.sessions[s.id]!.terminals.length" class="py-3 text-soft">It has no terminal open.</p>
        </template>
        <LivePeople v-if="live.sessions[s.id]!.people" :people="live.sessions[s.id]!.people!" :person="s.person" />
      </template>
      <p v-else class="py-3 text-soft" role="status">Loading…</p>
      <p v-if="s.person === me?.person" class="text-[0.9rem] text-soft">This is your own.</p>
    </li>
  </ul>
</template>

<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed, onUnmounted, ref } from "vue";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import SessionTable from "../features/sessions/SessionTable.vue";
import { useEndSession } from "../features/sessions/useEndSession";
import DayStrips from "../features/strips/DayStrips.vue";
import StripLegend from "../features/strips/StripLegend.vue";
import { isoDay, longDay } from "../lib/time";
import StateNote from "../ui/StateNote.vue";

const { administers } = useMe();
const { data: now, zone, error: nowError, refetch } = useNow();
const end = useEndSession();

const clock = ref(Date.now());
const ticking = setInterval(() => (clock.value = Date.now()), 20_000);
onUnmounted(() => clearInterval(ticking));

const back = ref(0);
const day = computed(() => isoDay(clock.value - back.value * 86_400_000, zone.value));
const strips = useQuery({
  queryKey: ["strips", day],
  queryFn: async () => unwrap(await api.GET("/api/v1/strips", { params: { query: { day: day.value } } })),
  placeholderData: (before) => before,
});
const live = useQuery({
  queryKey: ["sessions", "live"],
  queryFn: async () => unwrap(await api.GET("/api/v1/sessions", { params: { query: { state: "live", limit: 100 } } })),
  refetchInterval: 15_000,
});
const recent = useQuery({
  queryKey: ["sessions", "recent"],
  queryFn: async () => unwrap(await api.GET("/api/v1/sessions", { params: { query: { state: "ended", limit: 8 } } })),
});
const findings = useQuery({
  queryKey: ["findings", "newest"],
  queryFn: async () => unwrap(await api.GET("/api/v1/findings", { params: { query: { limit: 4 } } })),
});
</script>

<template>
  <h1 v-if="now" data-testid="sentence">
    <template v-if="now.live">
      <RouterLink to="/sessions?state=live">{{ now.live }} {{ now.live === 1 ? "session" : "sessions" }}</RouterLink>
      {{ now.live === 1 ? "is" : "are" }} live</template
    >
    <template v-else>Nobody is connected</template>, and
    <template v-if="now.findings_new">
      <RouterLink to="/findings" class="text-viol"
        >{{ now.findings_new }} {{ now.findings_new === 1 ? "finding" : "findings" }}</RouterLink
      >
      {{ now.findings_new === 1 ? "is" : "are" }} new since yesterday.</template
    >
    <template v-else-if="now.findings">
      none of the <RouterLink to="/findings">{{ now.findings }} findings</RouterLink> is new since yesterday.</template
    >
    <template v-else>there are no findings.</template>
  </h1>
  <StateNote v-else :loading="!nowError" :error="nowError" @retry="refetch()" />

  <div class="mb-2 mt-5 flex flex-wrap items-center gap-x-3 gap-y-2">
    <h2>{{ back === 0 ? "Today" : back === 1 ? "Yesterday" : `${back} days ago` }}</h2>
    <span class="text-[0.9rem] text-soft">{{ longDay(clock - back * 86_400_000, zone) }}, {{ zone }} time</span>
    <span class="flex gap-1.5">
      <button class="button" aria-label="The day before" @click="back++">‹</button>
      <button class="button" aria-label="The day after" :disabled="back === 0" @click="back--">›</button>
    </span>
    <StripLegend class="ml-auto" />
  </div>
  <DayStrips v-if="strips.data.value" :day="strips.data.value" :now="clock" />
  <StateNote v-else :loading="strips.isPending.value" :error="strips.error.value" @retry="strips.refetch()" />

  <div class="mt-6 grid gap-6 xl:grid-cols-[1fr_21rem]">
    <div>
      <h2 class="mb-2">Live</h2>
      <SessionTable
        v-if="live.data.value?.items.length"
        :sessions="live.data.value.items"
        :zone="zone"
        brief
        :can-end="administers"
        @end="end.mutate($event.id)"
      />
      <StateNote
        v-else
        :loading="live.isPending.value"
        :error="live.error.value"
        empty="Nobody is connected to a machine now."
        @retry="live.refetch()"
      />
      <h2 class="mb-2 mt-6">Lately</h2>
      <SessionTable v-if="recent.data.value?.items.length" :sessions="recent.data.value.items" :zone="zone" brief />
      <StateNote
        v-else
        :loading="recent.isPending.value"
        :error="recent.error.value"
        empty="There was no session yet. When somebody connects through the gateway, it is listed here."
        @retry="recent.refetch()"
      />
    </div>
    <aside v-if="findings.data.value?.items.length" class="sheet self-start border-l-4 border-l-viol p-4">
      <h2 class="mb-2 text-viol">Newest findings</h2>
      <p v-for="f in findings.data.value.items" :key="f.id" class="mb-2.5">
        <span class="font-semibold text-viol first-letter:uppercase">{{
          f.importance[0]!.toUpperCase() + f.importance.slice(1)
        }}</span>
        {{ f.sentence }} <RouterLink :to="`/findings/${f.id}`">Evidence</RouterLink>
      </p>
      <RouterLink to="/findings">All findings</RouterLink>
    </aside>
  </div>
</template>

<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed, onUnmounted, ref } from "vue";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import SessionTable from "../features/sessions/SessionTable.vue";
import { useEndSession } from "../features/sessions/useEndSession";
import LiveScreens from "../features/live/LiveScreens.vue";
import StopPanel from "../features/live/StopPanel.vue";
import DayStrips from "../features/strips/DayStrips.vue";
import StripLegend from "../features/strips/StripLegend.vue";
import { clock as hour, isoDay, longDay } from "../lib/time";
import StateNote from "../ui/StateNote.vue";

const { data: me, administers } = useMe();
const { data: now, zone, error: nowError, refetch } = useNow();
const end = useEndSession();

/** Live sessions that are listed here; the others are one step away. */
const MOST_LIVE = 25;
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
  queryKey: ["sessions", "live", "now"],
  queryFn: async () =>
    unwrap(await api.GET("/api/v1/sessions", { params: { query: { state: "live", limit: MOST_LIVE } } })),
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
    <template v-else>Nobody is connected</template
    ><template v-if="now.waiting.length"
      >,
      <a href="#waiting"
        >{{ now.waiting.length }} {{ now.waiting.length === 1 ? "waits" : "wait" }} to begin</a
      ></template
    ><template v-if="now.yours"
      >,
      <RouterLink to="/requests" class="text-wait"
        >{{ now.yours }} {{ now.yours === 1 ? "request waits" : "requests wait" }} for your answer</RouterLink
      ></template
    >, and
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
  <template v-if="now">
    <p
      v-if="now.lockdown"
      class="mt-3 border-l-4 border-l-wait bg-waitbg px-4 py-3"
      role="alert"
      data-testid="lockdown"
    >
      <strong>The service is locked down</strong> since {{ hour(now.lockdown.since, zone) }} by {{ now.lockdown.by }}:
      {{ now.lockdown.why }}. Nobody new comes in, but in an emergency.
    </p>
    <div class="mt-3 flex flex-wrap items-center gap-x-5 gap-y-2 text-[0.9rem] text-soft" data-testid="backlog">
      <span
        >{{ now.backlog.recordings }} {{ now.backlog.recordings === 1 ? "recording runs" : "recordings run" }},
        <RouterLink to="/machines"
          >{{ now.backlog.agents_online }} of
          {{ now.backlog.agents_online + now.backlog.agents_offline }} agents</RouterLink
        >
        are online ({{ now.backlog.relays_online }} {{ now.backlog.relays_online === 1 ? "relay" : "relays" }}),
        {{
          now.backlog.notices === 0
            ? "no notice waits"
            : `${now.backlog.notices} ${now.backlog.notices === 1 ? "notice waits" : "notices wait"}`
        }}<template v-if="now.backlog.notices_failing"
          >, {{ now.backlog.notices_failing }} could not be delivered yet</template
        ><template v-if="now.backlog.forwarding != null"
          >,
          {{
            now.backlog.forwarding === 0
              ? "every event is forwarded"
              : `${now.backlog.forwarding} ${now.backlog.forwarding === 1 ? "event waits" : "events wait"} to be forwarded`
          }}<template v-if="now.backlog.forwarding_failure"> ({{ now.backlog.forwarding_failure }})</template></template
        >.</span
      >
      <StopPanel v-if="administers" :now="now" class="ml-auto" />
    </div>
    <section v-if="now.waiting.length" id="waiting" class="mt-4" aria-label="Waiting">
      <ul class="sheet divide-y divide-line border-l-4 border-l-wait">
        <li
          v-for="w in now.waiting"
          :key="w.id"
          class="flex flex-wrap items-baseline gap-x-4 px-4 py-2"
          data-testid="waits"
        >
          <span>{{ w.sentence }}</span>
          <span class="text-soft">since {{ hour(w.since, zone) }}, until {{ hour(w.until, zone) }}</span>
          <RouterLink v-if="w.request" :to="`/requests/${w.request}`" class="ml-auto">The request</RouterLink>
        </li>
      </ul>
    </section>
  </template>

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
      <div class="mb-2 flex items-baseline gap-4">
        <h2>Live</h2>
        <RouterLink v-if="now?.live" to="/watch">Watch terminals and screens</RouterLink>
      </div>
      <SessionTable
        v-if="live.data.value?.items.length"
        :sessions="live.data.value.items"
        :zone="zone"
        brief
        :can-end="administers"
        @end="end.mutate($event.id)"
      />
      <LiveScreens :sessions="live.data.value?.items ?? []" :me="me?.person ?? ''" />
      <p v-if="(now?.live ?? 0) > MOST_LIVE && live.data.value?.items.length" class="mt-2">
        <RouterLink to="/sessions?state=live">All {{ now!.live }} live sessions</RouterLink>
      </p>
      <StateNote
        v-if="!live.data.value?.items.length"
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
      <p v-for="f in findings.data.value.items" :key="f.id" class="mb-2.5 wrap-anywhere">
        <span class="font-semibold text-viol first-letter:uppercase">{{
          f.importance[0]!.toUpperCase() + f.importance.slice(1)
        }}</span>
        {{ f.sentence }} <RouterLink :to="`/findings/${f.id}`">Evidence</RouterLink>
      </p>
      <RouterLink to="/findings">All findings</RouterLink>
    </aside>
  </div>
</template>

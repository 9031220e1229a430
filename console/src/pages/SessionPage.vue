<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed, defineAsyncComponent, ref } from "vue";
import { useRoute } from "vue-router";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import EventList from "../features/sessions/EventList.vue";
import SessionFacts from "../features/sessions/SessionFacts.vue";
import { useEndSession } from "../features/sessions/useEndSession";
import { parseFrames } from "../lib/recording";
import StateNote from "../ui/StateNote.vue";

const RecordingPlayer = defineAsyncComponent(() => import("../features/sessions/RecordingPlayer.vue"));
const DesktopPlayer = defineAsyncComponent(() => import("../features/desktop/DesktopPlayer.vue"));
const LiveSession = defineAsyncComponent(() => import("../features/live/LiveSession.vue"));
const props = defineProps<{ id: string }>();
const route = useRoute();
const { data: me, readsAll, administers } = useMe();
const { zone } = useNow();
const end = useEndSession();
const path = { path: { id: props.id } };

const session = useQuery({
  queryKey: ["session", props.id],
  queryFn: async () => unwrap(await api.GET("/api/v1/sessions/{id}", { params: path })),
  refetchInterval: (q) => (q.state.data?.ended ? false : 5_000),
});
const events = useQuery({
  queryKey: ["log", "session", props.id],
  queryFn: async () => unwrap(await api.GET("/api/v1/log", { params: { query: { session: props.id, limit: 500 } } })),
});
const findings = useQuery({
  queryKey: ["findings", "session", props.id],
  queryFn: async () =>
    unwrap(await api.GET("/api/v1/findings", { params: { query: { session: props.id, limit: 100 } } })),
  enabled: readsAll,
});
const frames = useQuery({
  queryKey: ["frames", props.id],
  queryFn: async () =>
    parseFrames(unwrap(await api.GET("/api/v1/recordings/{id}/frames", { params: path, parseAs: "text" }))),
  enabled: () => session.data.value?.recorded ?? false,
  staleTime: Infinity,
});
const verified = useQuery({
  queryKey: ["verified", props.id],
  queryFn: async () => unwrap(await api.POST("/api/v1/recordings/{id}/verify", { params: path })),
  enabled: false,
});

const isDesktop = computed(() => session.data.value?.uses.includes("view") ?? false);
const player = ref<{ seek: (ms: number) => void }>();
const start = computed(() => (typeof route.query.t === "string" ? Number(route.query.t) || 0 : undefined));
const has = computed(() => {
  const s = session.data.value;
  if (!s) return "";
  const told = s.sentence.slice(s.person_name.length);
  return told.slice(0, told.indexOf(s.machine));
});
const rest = computed(() => {
  const s = session.data.value;
  return s ? s.sentence.slice(s.sentence.indexOf(s.machine, s.person_name.length) + s.machine.length, -1) : "";
});
</script>

<template>
  <StateNote
    v-if="!session.data.value"
    :loading="session.isPending.value"
    :error="session.error.value"
    @retry="session.refetch()"
  />
  <template v-else>
    <RouterLink
      :to="{ path: '/sessions', query: { machine: session.data.value.machine } }"
      class="inline-block py-1 text-[0.9rem] text-soft"
      >All sessions on {{ session.data.value.machine }}</RouterLink
    >
    <div class="flex flex-wrap items-start gap-4">
      <h1 class="grow">
        <RouterLink :to="{ path: '/sessions', query: { person: session.data.value.person } }">{{
          session.data.value.person_name
        }}</RouterLink>{{ has
        }}<RouterLink :to="{ path: '/sessions', query: { machine: session.data.value.machine } }">{{
          session.data.value.machine
        }}</RouterLink
        >{{ rest
        }}<template v-if="findings.data.value?.items.length"
          >;
          <a href="#happened" class="text-viol"
            >{{ findings.data.value.items.length }} finding{{ findings.data.value.items.length === 1 ? "" : "s" }}</a
          ></template
        >.
      </h1>
      <button
        v-if="administers && !session.data.value.ended"
        class="button"
        :disabled="end.isPending.value"
        @click="end.mutate(id)"
      >
        End this session
      </button>
    </div>
    <div class="mt-4 grid gap-x-7 gap-y-5 lg:grid-cols-[minmax(0,1fr)_24.5rem]">
      <div class="min-w-0">
        <p v-if="isDesktop && !session.data.value.ended" class="sheet mb-4 flex flex-wrap items-center gap-3 p-4">
          <span>Its screen is live.</span>
          <RouterLink class="button no-underline!" :to="`/sessions/${id}/desktop`" data-testid="watch-desktop">{{
            session.data.value.person === me?.person ? "Go on with it" : "Watch it"
          }}</RouterLink>
        </p>
        <LiveSession v-else-if="!session.data.value.ended" :session="session.data.value" />
        <template v-if="session.data.value.recorded && session.data.value.ended">
          <DesktopPlayer
            v-if="isDesktop && frames.data.value"
            :id="id"
            ref="player"
            :length="session.data.value.length_ms"
            :frames="frames.data.value"
            :findings="findings.data.value?.items ?? []"
            :start="start"
          />
          <RecordingPlayer
            v-else-if="frames.data.value && (!readsAll || findings.data.value)"
            :id="id"
            ref="player"
            :frames="frames.data.value"
            :findings="findings.data.value?.items ?? []"
            :start="start"
          />
          <StateNote v-else :loading="frames.isPending.value" :error="frames.error.value" @retry="frames.refetch()" />
          <p class="mt-2 text-[0.9rem] text-soft">
            Bars show activity<template v-if="findings.data.value?.items.length">; the red mark is the finding</template
            >.
            <template v-if="!isDesktop"
              ><a :href="`/api/v1/recordings/${id}/text`" :download="`${id}.txt`">Export as text</a> ·</template
            >
            <button
              class="cursor-pointer underline underline-offset-3"
              data-testid="verify"
              :disabled="verified.isFetching.value"
              @click="verified.refetch()"
            >
              {{ verified.isFetching.value ? "Verifying…" : "Verify" }}
            </button>
            <span
              v-if="verified.data.value"
              role="status"
              class="ml-2"
              :class="verified.data.value.holds ? 'text-ink' : 'font-semibold text-viol'"
              >{{ verified.data.value.sentence }}</span
            >
            <span v-else-if="verified.error.value" role="alert" class="ml-2">{{ verified.error.value.message }}</span>
          </p>
        </template>
        <p v-else-if="!session.data.value.recorded" class="sheet p-4 text-soft">
          The rules demanded no recording of this session.
        </p>
      </div>
      <div>
        <SessionFacts :session="session.data.value" :zone="zone" class="mb-4" />
        <h2 id="happened" class="mb-2">What happened</h2>
        <EventList
          v-if="events.data.value"
          :events="events.data.value.items"
          :findings="findings.data.value?.items ?? []"
          :zone="zone"
          @go="player?.seek($event)"
        />
        <StateNote v-else :loading="events.isPending.value" :error="events.error.value" @retry="events.refetch()" />
      </div>
    </div>
  </template>
</template>

<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, unwrap, type Visit } from "../../api/client";
import ProblemNote from "../../ui/ProblemNote.vue";
import LiveTerminal from "../live/LiveTerminal.vue";
import { useLive } from "../live/useLive";
import { useTyping } from "../live/useTyping";
import { useEndSession } from "../sessions/useEndSession";

/** A shell on the computer of whoever is helped: asked for, and worked in. */
const props = defineProps<{ visit: Visit }>();
const emit = defineEmits<{ changed: [] }>();
const session = computed(() => props.visit.shell ?? "");
const live = useLive(computed(() => (session.value ? [session.value] : [])));
const it = computed(() => live.sessions[session.value]);
const end = useEndSession();
const typed = useTyping(session);
const begin = useMutation({
  mutationFn: async () => {
    return unwrap(await api.POST("/api/v1/visits/{id}/shell", { params: { path: { id: props.visit.id } } }));
  },
  onSuccess: () => emit("changed"),
});
const resize = useMutation({
  mutationFn: async (body: { channel: number; columns: number; rows: number }) =>
    unwrap(await api.POST("/api/v1/sessions/{id}/size", { params: { path: { id: session.value } }, body })),
});
const person = computed(() => props.visit.person || "The person");
</script>

<template>
  <section class="mt-4" aria-labelledby="visit-shell">
    <div class="mb-2 flex flex-wrap items-center gap-3">
      <h2 id="visit-shell" class="grow">Shell</h2>
      <button v-if="session" class="button" :disabled="end.isPending.value" @click="end.mutate(session)">
        Close the shell
      </button>
      <p v-else-if="begin.isPending.value" role="status" class="text-wait">
        {{ person }} is asked whether you may work in a shell there …
      </p>
      <button v-else class="button" data-testid="ask-shell" @click="begin.mutate()">Ask for a shell</button>
    </div>
    <ProblemNote :text="begin.error.value?.message ?? end.error.value?.message" />
    <template v-if="session && it">
      <LiveTerminal
        v-for="c in it.terminals"
        :key="`${session} ${c}`"
        :live="live"
        :session="session"
        :channel="c"
        :name="`the computer of ${person}`"
        typing
        sizing
        @typed="typed(c, $event)"
        @room="(columns, rows) => resize.mutate({ channel: c, columns, rows })"
      />
      <p class="mt-1 text-[0.85rem] text-soft">
        With the rights of {{ person }}, who sees that you are there and can take it back. What is shown is recorded.
      </p>
    </template>
  </section>
</template>

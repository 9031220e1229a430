<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { ref } from "vue";
import { api, unwrap } from "../api/client";
import VisitedRoom from "../features/visits/VisitedRoom.vue";
import { usePass } from "../features/visits/usePass";
import OpenPage from "../ui/OpenPage.vue";
import ProblemNote from "../ui/ProblemNote.vue";
import StateNote from "../ui/StateNote.vue";

/** The standing page on which people ask for help themselves. */
const props = defineProps<{ queue: string }>();
const path = { path: { queue: props.queue } };
const { pass, keep } = usePass(`help ${props.queue}`);
const person = ref("");
const mail = ref("");
const reason = ref("");
const queue = useQuery({
  queryKey: ["help", props.queue],
  queryFn: async () => unwrap(await api.GET("/api/v1/help/{queue}", { params: path })),
});
const ask = useMutation({
  mutationFn: async () =>
    unwrap(
      await api.POST("/api/v1/help/{queue}", {
        params: path,
        body: { person: person.value, mail: mail.value, reason: reason.value },
      }),
    ),
  onSuccess: keep,
});
</script>

<template>
  <OpenPage :heading="pass ? 'Your visit' : 'Ask for help'">
    <VisitedRoom v-if="pass" :pass="pass" />
    <form v-else-if="queue.data.value" class="flex flex-col gap-4" @submit.prevent="ask.mutate()">
      <p>
        <b>{{ queue.data.value.note || queue.data.value.name }}</b>.
        {{
          queue.data.value.waiting === 0
            ? "Nobody waits now."
            : queue.data.value.waiting === 1
              ? "One person waits now."
              : `${queue.data.value.waiting} people wait now.`
        }}
      </p>
      <label
        ><span class="label">Your name</span
        ><input v-model="person" class="field w-full" name="person" required maxlength="100" v-focus
      /></label>
      <label
        ><span class="label">What it is about</span
        ><input v-model="reason" class="field w-full" name="reason" required maxlength="200"
      /></label>
      <label
        ><span class="label">Your mail address (if you like)</span
        ><input v-model="mail" class="field w-full" name="mail" type="email" maxlength="200"
      /></label>
      <ProblemNote :text="ask.error.value?.message" />
      <button class="button py-2!" data-kind="main" :disabled="ask.isPending.value">Ask for help</button>
    </form>
    <StateNote v-else :loading="queue.isPending.value" :error="queue.error.value" @retry="queue.refetch()" />
  </OpenPage>
</template>

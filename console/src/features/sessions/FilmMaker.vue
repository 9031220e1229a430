<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { api, unwrap } from "../../api/client";
import { counter } from "../../lib/time";

/** Has a film made of a recording, and says how far it is. */
const props = defineProps<{ id: string }>();
const queries = useQueryClient();
const path = { path: { id: props.id } };
const film = useQuery({
  queryKey: ["film", props.id],
  queryFn: async () => unwrap(await api.GET("/api/v1/recordings/{id}/film", { params: path })),
  refetchInterval: (q) => (q.state.data?.state === "waiting" ? 1000 : false),
});
const make = useMutation({
  mutationFn: async () => unwrap(await api.POST("/api/v1/recordings/{id}/film", { params: path })),
  onSuccess: (made) => queries.setQueryData(["film", props.id], made),
});
</script>

<template>
  <p class="flex flex-wrap items-center gap-3 bg-sheet px-3 pb-2 text-[0.92rem]" data-testid="film">
    <a v-if="film.data.value?.state === 'done'" :href="`/api/v1/recordings/${id}/film.webm`">Fetch the film (WebM)</a>
    <span v-else-if="film.data.value?.state === 'waiting'" role="status" class="text-soft"
      >A film is being made: {{ counter(film.data.value.reached) }} of {{ counter(film.data.value.length) }}.</span
    >
    <template v-else>
      <button class="button" data-testid="make-film" :disabled="make.isPending.value" @click="make.mutate()">
        Make a film of it
      </button>
      <span v-if="film.data.value?.failure" role="alert">It could not be made: {{ film.data.value.failure }}.</span>
      <span v-else class="text-soft">A WebM file that plays anywhere.</span>
    </template>
    <span v-if="make.error.value" role="alert">{{ make.error.value.message }}</span>
  </p>
</template>

<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, reactive } from "vue";
import { useRouter } from "vue-router";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import StateNote from "../ui/StateNote.vue";

const { administers } = useMe();
const router = useRouter();
const queries = useQueryClient();
const reviews = useQuery({ queryKey: ["reviews"], queryFn: async () => unwrap(await api.GET("/api/v1/reviews")) });
const openOnes = computed(() => reviews.data.value?.filter((r) => !r.closed) ?? []);
const left = computed(() => openOnes.value.reduce((n, r) => n + r.counts[0]! - r.counts[1]!, 0));
const form = reactive({ title: "", people: "", machines: "", days: 14 });
const begin = useMutation({
  mutationFn: async () =>
    unwrap(
      await api.POST("/api/v1/reviews", {
        body: { title: form.title, people: form.people || null, machines: form.machines || null, days: form.days },
      }),
    ),
  onSuccess: (r) => {
    void queries.invalidateQueries({ queryKey: ["reviews"] });
    void router.push(`/reviews/${r.id}`);
  },
});
</script>

<template>
  <h1>
    <template v-if="openOnes.length"
      >{{ openOnes.length === 1 ? "1 review is" : `${openOnes.length} reviews are` }} open, and {{ left }}
      {{ left === 1 ? "permission waits" : "permissions wait" }} for a decision.</template
    ><template v-else>{{ reviews.data.value ? "No review is open." : "Reviews" }}</template>
  </h1>
  <ul v-if="reviews.data.value?.length" class="sheet mb-6 mt-4 divide-y divide-line">
    <li
      v-for="r in reviews.data.value"
      :key="r.id"
      class="flex flex-wrap items-baseline gap-x-4 px-4 py-3"
      data-testid="review"
    >
      <RouterLink :to="`/reviews/${r.id}`" class="font-semibold">{{ r.title }}</RouterLink>
      <span class="text-soft">{{ r.sentence }}</span>
    </li>
  </ul>
  <StateNote
    v-else
    :loading="reviews.isPending.value"
    :error="reviews.error.value"
    empty="Nobody began one yet."
    @retry="reviews.refetch()"
  />
  <section v-if="administers" aria-label="New review" class="sheet max-w-3xl px-4 py-3.5">
    <h2>Begin a review</h2>
    <p class="mb-2 text-[0.92rem] text-soft">
      Each person and each rule that gives them something in scope becomes one question to those who look after the
      machines.
    </p>
    <form class="grid grid-cols-2 gap-3" @submit.prevent="begin.mutate()">
      <label
        ><span class="label">What it is about</span
        ><input v-model="form.title" class="field w-full" required maxlength="200" name="title"
      /></label>
      <label
        ><span class="label">Days until it is due</span
        ><input v-model.number="form.days" class="field w-full" type="number" min="1" max="366"
      /></label>
      <label
        ><span class="label">People in scope</span
        ><input v-model="form.people" class="field mono w-full" placeholder="all, or group:…"
      /></label>
      <label
        ><span class="label">Machines in scope</span
        ><input v-model="form.machines" class="field mono w-full" placeholder="all, or site=…"
      /></label>
      <div class="col-span-2">
        <button class="button" data-kind="main" :disabled="begin.isPending.value || !form.title.trim()">Begin</button>
      </div>
    </form>
    <StateNote v-if="begin.error.value" class="mt-3" :error="begin.error.value" @retry="begin.reset()" />
  </section>
</template>

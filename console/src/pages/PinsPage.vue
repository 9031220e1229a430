<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, onUnmounted, ref } from "vue";
import { api, unwrap } from "../api/client";
import { duration } from "../lib/time";
import StateNote from "../ui/StateNote.vue";
import ProblemNote from "../ui/ProblemNote.vue";

const queries = useQueryClient();
const note = ref("");
const now = ref(Date.now());
const tick = setInterval(() => (now.value = Date.now()), 1000);
onUnmounted(() => clearInterval(tick));
const pins = useQuery({ queryKey: ["pins"], queryFn: async () => unwrap(await api.GET("/api/v1/pins")) });
const refresh = () => queries.invalidateQueries({ queryKey: ["pins"] });
const issue = useMutation({
  mutationFn: async () => unwrap(await api.POST("/api/v1/pins", { body: { note: note.value } })),
  onSuccess: () => {
    note.value = "";
    void refresh();
  },
});
const withdraw = useMutation({
  mutationFn: async (id: string) => unwrap(await api.DELETE("/api/v1/pins/{id}", { params: { path: { id } } })),
  onSuccess: refresh,
});
const open = computed(() => pins.data.value?.filter((p) => p.state === "open" && !p.machine).length);
const sentence = computed(() => {
  if (open.value === undefined) return "PINs";
  if (!open.value) return "No PIN is open.";
  return open.value === 1 ? "1 PIN is open." : `${open.value} PINs are open.`;
});
const left = (ends: string) => duration((new Date(ends).getTime() - now.value) / 1000);
/** In groups of four: it is read out. */
const spaced = (pin: string) => pin.replace(/(.{4})(?=.)/g, "$1 ");
</script>

<template>
  <h1>{{ sentence }}</h1>
  <form class="sheet mt-4 flex max-w-3xl flex-wrap items-end gap-3 px-4 py-3.5" @submit.prevent="issue.mutate()">
    <label class="min-w-72 flex-1"
      ><span class="label">For what or whom</span
      ><input v-model="note" class="field w-full" name="note" maxlength="200" placeholder="the printer in the library"
    /></label>
    <button class="button" data-kind="main" :disabled="issue.isPending.value">Issue a PIN</button>
    <ProblemNote class="w-full" :text="issue.error.value?.message" />
    <div v-if="issue.data.value" class="w-full border-l-4 border-l-accent pl-3" role="status">
      <code class="block text-[1.6rem] tracking-widest" data-testid="new-pin">{{ spaced(issue.data.value.pin) }}</code>
      <span class="text-soft"
        >Read it out with the address <code>{{ issue.data.value.link }}</code>. It is not shown again.</span
      >
    </div>
  </form>
  <ul v-if="pins.data.value?.length" class="sheet mt-4 divide-y divide-line" aria-label="PINs">
    <li
      v-for="p in pins.data.value"
      :key="p.id"
      class="flex flex-wrap items-baseline gap-x-4 px-4 py-2"
      data-testid="pin"
    >
      <span class="font-semibold">{{ p.machine ? `Stands for ${p.machine}` : p.note || "A visit" }}</span>
      <span class="text-soft">by {{ p.issued_by }}</span>
      <span class="ml-auto">
        <template v-if="p.state === 'open' && p.ends"
          >open for {{ left(p.ends) }}, {{ p.tries_left }} {{ p.tries_left === 1 ? "try" : "tries" }} left</template
        ><template v-else-if="p.machine">until it is changed</template><template v-else>{{ p.state }}</template>
      </span>
      <button
        v-if="p.state === 'open' && !p.machine"
        class="button"
        :aria-label="`Withdraw the PIN for ${p.note || 'a visit'}`"
        @click="withdraw.mutate(p.id)"
      >
        Withdraw
      </button>
    </li>
  </ul>
  <StateNote
    v-else
    :loading="pins.isPending.value"
    :error="pins.error.value"
    empty="Nobody has issued one in the last week."
    @retry="pins.refetch()"
  />
</template>

<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap } from "../../api/client";
import ProblemNote from "../../ui/ProblemNote.vue";
import { words } from "../../lib/words";

/** Asks for access to machines. */
const queries = useQueryClient();
const machines = ref("");
const capabilities = ref("shell");
const target = ref("");
const hours = ref("4");
const forwards = computed(() => words(capabilities.value).includes("forward"));
const reason = ref("");
const ticket = ref("");
const ask = useMutation({
  mutationFn: async () =>
    unwrap(
      await api.POST("/api/v1/requests", {
        body: {
          machines: words(machines.value),
          capabilities: words(capabilities.value),
          target: (forwards.value && target.value) || undefined,
          until: new Date(Date.now() + Number(hours.value) * 3_600_000).toISOString(),
          reason: reason.value,
          ticket: ticket.value,
        },
      }),
    ),
  onSuccess: () => {
    [machines.value, target.value, reason.value, ticket.value] = ["", "", "", ""];
    void queries.invalidateQueries({ queryKey: ["requests"] });
  },
});
</script>

<template>
  <form class="sheet flex flex-wrap items-end gap-x-4 gap-y-3 px-4 py-3.5" @submit.prevent="ask.mutate()">
    <label class="min-w-48 flex-1"
      ><span class="label">Machines</span
      ><input v-model="machines" class="field w-full" name="machines" required placeholder="spectro-1 or group:ridge"
    /></label>
    <label
      ><span class="label">To use</span
      ><input v-model="capabilities" class="field" name="capabilities" required placeholder="shell, upload"
    /></label>
    <label v-if="forwards"
      ><span class="label">Port to forward</span
      ><input v-model="target" class="field" name="target" placeholder="any that the rules allow"
    /></label>
    <label
      ><span class="label">For</span
      ><select v-model="hours" class="field" name="for">
        <option value="1">1 hour</option>
        <option value="4">4 hours</option>
        <option value="8">8 hours</option>
        <option value="24">a day</option>
        <option value="168">a week</option>
      </select></label
    >
    <label class="min-w-64 flex-[2]"
      ><span class="label">Why</span
      ><input v-model="reason" class="field w-full" name="reason" required maxlength="500"
    /></label>
    <label
      ><span class="label">Ticket</span><input v-model="ticket" class="field w-32" name="ticket" maxlength="100"
    /></label>
    <button class="button" data-kind="main" :disabled="ask.isPending.value">Ask</button>
    <ProblemNote class="w-full" :text="ask.error.value?.message" />
    <p v-if="ask.data.value" class="w-full text-soft" role="status">
      It waits for {{ ask.data.value.approvers.join(" or ") }}.
    </p>
  </form>
</template>

<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap } from "../api/client";
import { authenticatorProblem, proveCredential } from "../lib/webauthn";
import OpenPage from "../ui/OpenPage.vue";
import ProblemNote from "../ui/ProblemNote.vue";

const props = defineProps<{ code: string }>();
const number = ref("");
const path = computed(() => ({ path: { code: props.code } }));
const facts = useQuery({
  queryKey: ["confirmation", () => props.code],
  retry: false,
  staleTime: Infinity,
  queryFn: async () => unwrap(await api.GET("/api/v1/confirmations/{code}", { params: path.value })),
});
const confirm = useMutation({
  mutationFn: async () => {
    const question = unwrap(await api.POST("/api/v1/confirmations/{code}/question", { params: path.value }));
    const credential = await proveCredential(question.options);
    const body = { number: Number(number.value), challenge: question.challenge, credential };
    return unwrap(await api.POST("/api/v1/confirmations/{code}/answer", { params: path.value, body }));
  },
});
const refuse = useMutation({
  mutationFn: async () => unwrap(await api.POST("/api/v1/confirmations/{code}/refuse", { params: path.value })),
});
const problem = computed(() => {
  const error = confirm.error.value ?? refuse.error.value;
  return error ? (authenticatorProblem(error) ?? error.message) : "";
});
</script>

<template>
  <OpenPage heading="Confirm a sign-in">
    <p v-if="confirm.isSuccess.value" role="status" data-testid="confirmed">
      Confirmed. The terminal goes on; you can close this page.
    </p>
    <p v-else-if="refuse.isSuccess.value" role="status">Refused. The terminal was told, and it is in the log.</p>
    <template v-else-if="facts.data.value">
      <p>
        <b>{{ facts.data.value.person }}</b> signs in to <b class="mono">{{ facts.data.value.machine }}</b> in a
        terminal, from <b class="mono">{{ facts.data.value.from }}</b>.
      </p>
      <form class="flex flex-col gap-4" @submit.prevent="confirm.mutate()">
        <label class="flex flex-col gap-1"
          ><span class="font-medium">Number that the terminal shows</span
          ><input
            v-model="number"
            class="field mono w-24 text-[1.4rem] tracking-widest"
            name="number"
            inputmode="numeric"
            pattern="[0-9]{2}"
            maxlength="2"
            required
            v-focus
        /></label>
        <ProblemNote :text="problem" />
        <span class="flex gap-3">
          <button class="button py-2!" data-kind="main" :disabled="confirm.isPending.value">
            {{ facts.data.value.kind === "passkey" ? "Confirm with your passkey" : "Confirm with your security key" }}
          </button>
          <button type="button" class="button py-2!" @click="refuse.mutate()">This is not me</button>
        </span>
      </form>
    </template>
    <p v-else-if="facts.error.value" role="alert">{{ facts.error.value.message }}</p>
    <p v-else class="text-soft" role="status">Looking for the terminal…</p>
  </OpenPage>
</template>

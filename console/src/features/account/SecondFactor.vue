<script setup lang="ts">
import { computed, ref } from "vue";
import { ApiError, type Me } from "../../api/client";
import { useProve } from "../../composables/useProve";
import { authenticatorProblem, hasPasskeys } from "../../lib/webauthn";
import ProblemNote from "../../ui/ProblemNote.vue";

/** Asks for one of the second factors that somebody has: passkey, security key, code, or a recovery code. */
const props = defineProps<{ wanted: string[] }>();
const emit = defineEmits<{ proved: [me: Me] }>();

const { byCode, byAuthenticator } = useProve();
const code = ref("");
const busy = ref(false);
const problem = ref("");
const recovering = ref(false);
const kinds = computed(() =>
  (["passkey", "security-key"] as const).filter((k) => hasPasskeys() && props.wanted.includes(k)),
);
const bySoftware = computed(() => props.wanted.includes("code") || recovering.value || kinds.value.length === 0);

async function prove(work: () => Promise<Me>) {
  busy.value = true;
  problem.value = "";
  try {
    emit("proved", await work());
  } catch (e) {
    problem.value =
      authenticatorProblem(e) ??
      (e instanceof ApiError ? e.message : "The service cannot be reached. Try again in a moment.");
    code.value = "";
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <div class="flex flex-col gap-4">
    <button
      v-for="kind in kinds"
      :key="kind"
      type="button"
      class="button py-2!"
      :data-kind="kind === kinds[0] ? 'main' : undefined"
      :data-testid="`prove-${kind}`"
      :disabled="busy"
      @click="prove(() => byAuthenticator(kind))"
    >
      {{ kind === "passkey" ? "Use a passkey" : "Touch a security key" }}
    </button>
    <form v-if="bySoftware" class="flex flex-col gap-3" @submit.prevent="prove(() => byCode(code))">
      <label class="flex flex-col gap-1">
        <span class="font-medium">{{ recovering ? "Recovery or temporary code" : "Code" }}</span>
        <input
          v-model="code"
          class="field mono tracking-widest"
          name="code"
          :inputmode="recovering ? 'text' : 'numeric'"
          autocomplete="one-time-code"
          autocapitalize="none"
          maxlength="20"
          required
          v-focus
          aria-describedby="code-help"
        />
        <span id="code-help" class="text-[0.85rem] text-soft">{{
          recovering
            ? "One of those that you printed, or that an administrator read out"
            : "Six digits from your authenticator app"
        }}</span>
      </label>
      <button class="button py-2!" :data-kind="kinds.length ? undefined : 'main'" :disabled="busy">
        {{ busy ? "Checking…" : "Confirm" }}
      </button>
    </form>
    <button
      v-if="!recovering"
      type="button"
      class="cursor-pointer self-start text-[0.92rem] text-soft underline underline-offset-3"
      data-testid="recover"
      @click="recovering = true"
    >
      I have none of these with me
    </button>
    <ProblemNote :text="problem" />
  </div>
</template>

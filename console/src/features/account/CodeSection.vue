<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { api, unwrap, type Account } from "../../api/client";
import { proven } from "../../composables/useProve";
import ProblemNote from "../../ui/ProblemNote.vue";

/** Codes of an authenticator app, and recovery codes. */
const props = defineProps<{ account: Account }>();
const queries = useQueryClient();
const code = ref("");
const refresh = () => Promise.all(["account", "me"].map((k) => queries.invalidateQueries({ queryKey: [k] })));

const offer = useMutation({
  mutationFn: () => proven(async () => unwrap(await api.POST("/api/v1/me/code/offer"))),
});
const enrol = useMutation({
  mutationFn: () =>
    proven(async () =>
      unwrap(await api.PUT("/api/v1/me/code", { body: { secret: offer.data.value!.secret, code: code.value } })),
    ),
  onSuccess: (me) => {
    queries.setQueryData(["me"], me);
    offer.reset();
    code.value = "";
    void refresh();
  },
});
const giveUp = useMutation({
  mutationFn: () => proven(async () => unwrap(await api.DELETE("/api/v1/me/code"))),
  onSuccess: refresh,
});
const recovery = useMutation({
  mutationFn: () => proven(async () => unwrap(await api.POST("/api/v1/me/recovery-codes"))),
  onSuccess: refresh,
});
const error = computed(
  () => offer.error.value ?? enrol.error.value ?? giveUp.error.value ?? recovery.error.value ?? null,
);
/** The dark modules as one path: a row of runs for each line. */
const modules = computed(() =>
  (offer.data.value?.qr ?? [])
    .flatMap((row, y) =>
      [...row.matchAll(/1+/g)].map((run) => `M${run.index} ${y}h${run[0].length}v1h-${run[0].length}z`),
    )
    .join(""),
);
const size = computed(() => offer.data.value?.qr.length ?? 0);
const left = computed(() => props.account.detail.recovery_codes);
</script>

<template>
  <section class="sheet px-4 py-3.5" aria-labelledby="codes">
    <h2 id="codes">Codes</h2>
    <div class="mb-3 flex flex-wrap items-baseline gap-x-4">
      <p class="text-soft">
        {{ account.code ? "An authenticator app is enrolled." : "No authenticator app is enrolled." }}
      </p>
      <span class="ml-auto flex gap-3">
        <button v-if="!offer.data.value" class="button" data-testid="offer-code" @click="offer.mutate()">
          {{ account.code ? "Change the app" : "Enrol an app" }}
        </button>
        <button v-if="account.code" class="button" @click="giveUp.mutate()">Give up codes</button>
      </span>
    </div>
    <div v-if="offer.data.value" class="mb-4 flex flex-wrap gap-5 border-t border-line pt-3" data-testid="offer">
      <!-- Dark on white in both themes: scanners want it so. -->
      <svg
        :viewBox="`-4 -4 ${size + 8} ${size + 8}`"
        class="h-48 w-48 rounded bg-white"
        role="img"
        aria-label="QR code of the secret, for an authenticator app"
        shape-rendering="crispEdges"
      >
        <path :d="modules" fill="#000" />
      </svg>
      <form class="flex max-w-xs flex-col gap-3" @submit.prevent="enrol.mutate()">
        <p class="text-[0.92rem]">
          Scan this with an authenticator app, or type the secret:
          <code class="mt-1 block break-all" data-testid="secret">{{ offer.data.value.secret }}</code>
        </p>
        <label
          ><span class="label">The code that the app shows</span
          ><input
            v-model="code"
            class="field mono w-full tracking-widest"
            name="first-code"
            inputmode="numeric"
            autocomplete="one-time-code"
            maxlength="9"
            required
        /></label>
        <span class="flex gap-3">
          <button class="button" data-kind="main" :disabled="enrol.isPending.value">Confirm</button>
          <button type="button" class="button" @click="offer.reset()">Cancel</button>
        </span>
      </form>
    </div>
    <div v-if="!account.must_enrol" class="flex flex-wrap items-baseline gap-x-4 border-t border-line pt-3">
      <p class="text-soft">
        <template v-if="left">{{ left }} recovery codes are left.</template>
        <template v-else>There are no recovery codes.</template>
      </p>
      <button class="button ml-auto" data-testid="make-recovery" @click="recovery.mutate()">
        {{ left ? "Make new ones" : "Make recovery codes" }}
      </button>
    </div>
    <div v-if="recovery.data.value" class="mt-3" role="status">
      <ul class="mono grid max-w-sm grid-cols-2 gap-x-6 gap-y-1" data-testid="recovery-codes">
        <li v-for="c in recovery.data.value.codes" :key="c">{{ c }}</li>
      </ul>
      <p class="mt-2 text-[0.92rem] text-soft">
        Print these. Each is good once, earlier ones are dead, and they are not shown again.
      </p>
    </div>
    <ProblemNote class="mt-3" :text="error?.message" />
  </section>
</template>

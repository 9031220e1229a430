<script setup lang="ts">
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { ApiError, api, unwrap, type Me } from "../api/client";
import SecondFactor from "../features/account/SecondFactor.vue";
import { authenticatorProblem, hasPasskeys, proveCredential } from "../lib/webauthn";
import BrandMark from "../ui/BrandMark.vue";
import ProblemNote from "../ui/ProblemNote.vue";

const route = useRoute();
const router = useRouter();
const queries = useQueryClient();
const person = ref("");
const password = ref("");
const busy = ref("");
const problem = ref("");
/** Who gave the right password and has a second factor to prove. */
const proving = ref<Me | null>(null);
const welcome = useQuery({ queryKey: ["welcome"], queryFn: async () => unwrap(await api.GET("/api/v1/welcome")) });
const passkeys = computed(() => hasPasskeys() && welcome.data.value?.passkeys);

async function go(me: Me) {
  queries.clear();
  queries.setQueryData(["me"], me);
  if (me.stage === "enrolling") return router.push("/account");
  // Only a path of this console: another address is nobody's to send people to.
  const to = typeof route.query.to === "string" && /^\/(?![/\\])/.test(route.query.to) ? route.query.to : null;
  const reads = me.may.includes("read-everything");
  return router.push(to ?? (reads ? "/" : "/sessions"));
}

async function attempt(how: string, work: () => Promise<Me>) {
  busy.value = how;
  problem.value = "";
  try {
    const me = await work();
    if (me.stage === "proving") proving.value = me;
    else await go(me);
  } catch (e) {
    problem.value =
      authenticatorProblem(e) ??
      (e instanceof ApiError ? e.message : "The service cannot be reached. Try again in a moment.");
  } finally {
    busy.value = "";
  }
}

const byPassword = () =>
  attempt("password", async () => {
    const body = { person: person.value.trim(), password: password.value, code: "", token: false };
    const me = unwrap(await api.POST("/api/v1/sign-in", { body }));
    password.value = "";
    return me;
  });

const byPasskey = () =>
  attempt("passkey", async () => {
    const question = unwrap(await api.POST("/api/v1/sign-in/question"));
    const credential = await proveCredential(question.options);
    const body = { challenge: question.challenge, credential, token: false };
    return unwrap(await api.POST("/api/v1/sign-in/answer", { body }));
  });
</script>

<template>
  <main class="mx-auto flex min-h-screen max-w-sm flex-col justify-center px-5 pb-24">
    <p
      v-if="welcome.data.value?.banner"
      class="mb-6 whitespace-pre-line border-l-4 border-l-edge pl-3 text-soft"
      data-testid="banner"
    >
      {{ welcome.data.value.banner }}
    </p>
    <div class="mb-6 flex items-center gap-3">
      <BrandMark class="h-9 w-9" />
      <h1>{{ proving ? "One more proof" : "Sign in to Aerie" }}</h1>
    </div>
    <section v-if="proving" class="sheet p-5">
      <SecondFactor :wanted="proving.wanted" @proved="go" />
    </section>
    <section v-else class="sheet flex flex-col gap-4 p-5">
      <p v-if="welcome.data.value?.empty" class="border-l-4 border-l-wait bg-waitbg px-3 py-2">
        Nobody is here yet. Open the link that the service printed when it started: it makes the first administrator.
      </p>
      <button
        v-if="passkeys"
        type="button"
        class="button py-2!"
        data-kind="main"
        data-testid="passkey"
        :disabled="!!busy"
        @click="byPasskey"
      >
        {{ busy === "passkey" ? "Waiting for your passkey…" : "Sign in with a passkey" }}
      </button>
      <div v-if="passkeys" class="flex items-center gap-3 text-[0.85rem] text-soft" aria-hidden="true">
        <span class="h-px flex-1 bg-line" />or<span class="h-px flex-1 bg-line" />
      </div>
      <form class="flex flex-col gap-4" @submit.prevent="byPassword">
        <label class="flex flex-col gap-1">
          <span class="font-medium">Name</span>
          <input
            v-model="person"
            class="field"
            name="person"
            autocomplete="username webauthn"
            autocapitalize="none"
            required
            v-focus
          />
        </label>
        <label class="flex flex-col gap-1">
          <span class="font-medium">Password</span>
          <input
            v-model="password"
            class="field"
            name="password"
            type="password"
            autocomplete="current-password"
            required
          />
        </label>
        <ProblemNote :text="problem" />
        <button class="button py-2!" :data-kind="passkeys ? undefined : 'main'" :disabled="!!busy">
          {{ busy === "password" ? "Checking…" : "Continue" }}
        </button>
      </form>
    </section>
  </main>
</template>

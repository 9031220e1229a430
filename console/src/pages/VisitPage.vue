<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { ref } from "vue";
import { api, unwrap } from "../api/client";
import VisitedRoom from "../features/visits/VisitedRoom.vue";
import { usePass } from "../features/visits/usePass";
import OpenPage from "../ui/OpenPage.vue";
import ProblemNote from "../ui/ProblemNote.vue";

/** The page of whoever is helped: the PIN, and what comes after it. */
const props = defineProps<{ id?: string }>();
const pin = ref("");
const { pass, keep } = usePass(props.id ?? "");
const enter = useMutation({
  mutationFn: async () =>
    unwrap(await api.POST("/api/v1/pins/enter", { body: { pin: pin.value, visit: props.id || null } })),
  onSuccess: (taken) => taken.pass && keep(taken.pass),
  onError: () => (pin.value = ""),
});
</script>

<template>
  <OpenPage :heading="pass ? 'Your visit' : 'You were read a PIN'">
    <VisitedRoom v-if="pass" :pass="pass" />
    <p v-else-if="enter.data.value" role="status" data-testid="taken">
      <b>{{ enter.data.value.by }}</b><template v-if="enter.data.value.organisation">
        of {{ enter.data.value.organisation }}</template
      >
      expected you<template v-if="enter.data.value.note">: {{ enter.data.value.note }}</template
      >. They know now that you are here.
    </p>
    <form v-else class="flex flex-col gap-4" @submit.prevent="enter.mutate()">
      <label class="flex flex-col gap-1"
        ><span class="font-medium">PIN</span
        ><input
          v-model="pin"
          class="field mono text-[1.4rem] tracking-widest"
          name="pin"
          inputmode="numeric"
          autocomplete="off"
          maxlength="20"
          required
          v-focus
      /></label>
      <p class="text-[0.9rem] text-soft">
        Enter it only if you are speaking with somebody you know or called yourself. After it you see who asks, and for
        what; nothing happens before you allow it.
      </p>
      <p class="text-[0.9rem] text-soft">
        If your organisation looks after this computer, enter it on
        <a href="http://127.0.0.1:7077/" data-testid="agents-page">the computer's own page</a>: then nothing has to be
        shared or started.
      </p>
      <ProblemNote :text="enter.error.value?.message" />
      <button class="button py-2!" data-kind="main" :disabled="enter.isPending.value">Go on</button>
    </form>
  </OpenPage>
</template>

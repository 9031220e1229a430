<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { ref } from "vue";
import { api, unwrap } from "../api/client";
import OpenPage from "../ui/OpenPage.vue";
import ProblemNote from "../ui/ProblemNote.vue";

const props = defineProps<{ id?: string }>();
const pin = ref("");
const enter = useMutation({
  mutationFn: async () =>
    unwrap(await api.POST("/api/v1/pins/enter", { body: { pin: pin.value, visit: props.id || null } })),
  onError: () => (pin.value = ""),
});
</script>

<template>
  <OpenPage heading="You were read a PIN">
    <p v-if="enter.data.value" role="status" data-testid="taken">
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
      <ProblemNote :text="enter.error.value?.message" />
      <button class="button py-2!" data-kind="main" :disabled="enter.isPending.value">Go on</button>
    </form>
  </OpenPage>
</template>

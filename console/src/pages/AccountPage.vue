<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { api, unwrap } from "../api/client";
import { useMe } from "../composables/useMe";
import CodeSection from "../features/account/CodeSection.vue";
import DeviceSection from "../features/account/DeviceSection.vue";
import KeySection from "../features/account/KeySection.vue";
import PasskeySection from "../features/account/PasskeySection.vue";
import PasswordSection from "../features/account/PasswordSection.vue";
import StateNote from "../ui/StateNote.vue";

const { data: me } = useMe();
const account = useQuery({
  queryKey: ["account"],
  queryFn: async () => unwrap(await api.GET("/api/v1/me/account")),
});
</script>

<template>
  <template v-if="account.data.value">
    <h1>{{ account.data.value.detail.sentence }}</h1>
    <p
      v-if="account.data.value.advice"
      class="mt-2 max-w-4xl border-l-4 border-l-wait bg-waitbg px-3 py-2"
      role="status"
      data-testid="advice"
    >
      {{ account.data.value.advice }}
    </p>
    <div class="mt-4 grid items-start gap-4 lg:grid-cols-2">
      <div class="flex flex-col gap-4">
        <PasskeySection :account="account.data.value" />
        <CodeSection :account="account.data.value" />
        <PasswordSection :account="account.data.value" />
      </div>
      <div v-if="me?.stage === 'full'" class="flex flex-col gap-4">
        <KeySection :account="account.data.value" />
        <DeviceSection :account="account.data.value" />
      </div>
    </div>
  </template>
  <StateNote v-else :loading="account.isPending.value" :error="account.error.value" @retry="account.refetch()" />
</template>

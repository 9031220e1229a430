<script setup lang="ts">
import type { PersonDetail } from "../../api/client";
import { ago } from "../../lib/time";

/** SSH keys of somebody: when each was used, and which should go. */
defineProps<{ keys: PersonDetail["ssh_keys"]; removable: boolean }>();
defineEmits<{ remove: [fingerprint: string] }>();
</script>

<template>
  <ul v-if="keys.length" class="divide-y divide-line border-y border-line">
    <li v-for="k in keys" :key="k.fingerprint" class="py-1.5" data-testid="key-row">
      <div class="flex flex-wrap items-baseline gap-x-4">
        <span class="font-semibold">{{ k.label || "unnamed" }}</span>
        <span class="text-soft">{{ k.kind || "SSH key" }}{{ k.hardware ? ", on a FIDO authenticator" : "" }}</span>
        <span class="text-soft">{{ k.expires ? `until ${k.expires}` : "" }}</span>
        <span class="ml-auto text-soft">{{
          k.last_used ? `used ${ago(k.last_used)} from ${k.last_from}` : "never used"
        }}</span>
        <button
          v-if="removable"
          class="button"
          :data-kind="k.remove_because ? 'main' : undefined"
          :aria-label="`Remove ${k.label || k.fingerprint}`"
          @click="$emit('remove', k.fingerprint)"
        >
          Remove
        </button>
      </div>
      <code class="break-all text-soft">{{ k.fingerprint }}</code>
      <p v-if="k.remove_because" class="mt-1 border-l-4 border-l-wait bg-waitbg px-3 py-1">
        To be removed: {{ k.remove_because }}.
      </p>
    </li>
  </ul>
  <p v-else class="text-soft">No SSH key is registered.</p>
</template>

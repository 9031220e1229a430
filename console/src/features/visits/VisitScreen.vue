<script setup lang="ts">
import { watch } from "vue";
import DesktopView from "../desktop/DesktopView.vue";
import { useDesktop } from "../desktop/useDesktop";

/** The screen that somebody shares in a visit, as whoever helps sees it. */
const props = defineProps<{ id: string; me: string; person: string }>();
const emit = defineEmits<{ keep: [png: Blob]; over: [] }>();
const link = useDesktop({ visit: props.id });
watch(link.phase, (phase) => phase === "over" && !link.over.value && emit("over"));
link.begin();
</script>

<template>
  <div class="sheet h-[34rem] overflow-hidden">
    <DesktopView
      v-if="link.began.value && link.phase.value !== 'over'"
      :link="link"
      :me="me"
      :back="`/visits/${id}`"
      :title="link.uses.control === 'on' ? `You control the computer of ${person}.` : `You see what ${person} shares.`"
      :keep="(png: Blob) => emit('keep', png)"
    />
    <div v-else class="p-4">
      <p v-if="link.phase.value === 'over'" role="status">{{ link.over.value }}</p>
      <ol v-else aria-live="polite">
        <li v-for="(s, i) in link.steps.value" :key="i">{{ s }}</li>
      </ol>
      <button v-if="link.phase.value === 'over'" class="button mt-3" @click="link.begin()">Look again</button>
    </div>
  </div>
</template>

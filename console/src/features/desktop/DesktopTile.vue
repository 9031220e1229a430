<script setup lang="ts">
import { onMounted, ref } from "vue";
import DesktopCanvas from "./DesktopCanvas.vue";
import { useDesktop } from "./useDesktop";

/** The desktop of somebody's live session, among others: watched, with nothing to be done. */
const props = defineProps<{ session: string; name: string }>();
const canvas = ref<InstanceType<typeof DesktopCanvas>>();
const link = useDesktop({ session: props.session });
onMounted(() => {
  link.drawWith((message) => canvas.value?.show(message));
  link.begin();
});
</script>

<template>
  <p v-if="link.phase.value === 'over'" class="py-3 text-soft">{{ link.over.value }}</p>
  <div v-else class="relative aspect-[16/10] w-full overflow-hidden rounded bg-screen" data-testid="live-desktop">
    <DesktopCanvas ref="canvas" class="absolute inset-0 [container-type:size]" :name="name" mode="fit" pointed />
  </div>
</template>

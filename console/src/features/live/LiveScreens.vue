<script setup lang="ts">
import { computed, defineAsyncComponent, ref } from "vue";
import type { Session } from "../../api/client";

/** Small pictures of the screens that are live, for whoever wants them: that somebody looks is in the log. */
const props = defineProps<{ sessions: Session[]; me: string }>();
const DesktopTile = defineAsyncComponent(() => import("../desktop/DesktopTile.vue"));
/** Each is a connection of its own, of which a browser opens a handful. */
const MOST = 4;

const shown = ref(false);
const screens = computed(() => props.sessions.filter((s) => s.uses.includes("view") && s.person !== props.me));
</script>

<template>
  <section v-if="screens.length" aria-label="Live screens" class="mt-3">
    <button class="button" :aria-pressed="shown" data-testid="small-pictures" @click="shown = !shown">
      {{
        shown
          ? "Hide the screens"
          : screens.length === 1
            ? "Show 1 screen as a small picture"
            : `Show ${screens.length} screens as small pictures`
      }}
    </button>
    <template v-if="shown">
      <p class="mt-1 text-[0.9rem] text-soft">
        You see those that the rules let you watch; that you look is in the log, and whoever is watched is told where
        the rules say so.
      </p>
      <ul class="mt-2 grid gap-3 sm:grid-cols-2 lg:grid-cols-3">
        <li v-for="s in screens.slice(0, MOST)" :key="s.id" class="sheet min-w-0 p-2">
          <DesktopTile :session="s.id" :name="`Screen of ${s.machine}, with ${s.person_name}`" />
          <RouterLink :to="`/sessions/${s.id}/desktop`" class="mt-1 inline-block text-[0.9rem]"
            >{{ s.person_name }} on {{ s.machine }}</RouterLink
          >
        </li>
      </ul>
      <RouterLink v-if="screens.length > MOST" to="/watch" class="mt-2 inline-block">Watch all of them</RouterLink>
    </template>
  </section>
</template>

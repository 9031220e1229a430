<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/vue";
import { computed, onMounted, onUnmounted, ref } from "vue";
import { useQueryClient } from "@tanstack/vue-query";
import { useRoute, useRouter } from "vue-router";
import { api } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import { useTheme } from "../composables/useTheme";
import { useUpdates } from "../composables/useUpdates";
import BrandMark from "./BrandMark.vue";
import ProveDialog from "./ProveDialog.vue";

/** Head, navigation and place of the page, for whoever is signed in. */
const { data: me, may, readsAll, administers } = useMe();
const { data: now } = useNow();
const { theme, turn } = useTheme();
const route = useRoute();
const router = useRouter();
const queries = useQueryClient();
const search = ref("");
const searchField = ref<HTMLInputElement>();
useUpdates();

/** The pages for this person, in the order of the work. */
const places = computed(() => {
  const full = me.value?.stage === "full";
  const all: [string, string, boolean][] = [
    ["/", "Now", readsAll.value],
    ["/machines", "Machines", full],
    ["/people", "People", may("read-directory")],
    ["/rules", "Rules", may("read-rules")],
    ["/reach", "Reach", full],
    ["/reviews", "Reviews", full],
    ["/requests", "Requests", full],
    ["/sessions", "Sessions", full],
    ["/accesses", "Accesses", readsAll.value],
    ["/visits", "Visits", may("issue-pins") || readsAll.value],
    ["/findings", "Findings", readsAll.value],
    ["/log", "Log", readsAll.value],
  ];
  return all.filter(([, , shown]) => shown).map(([path, name]) => [path, name] as const);
});
/** Pages that belong to the place of another. */
const PARTS: Record<string, string> = {
  "/coverage": "/findings",
  "/detections": "/findings",
  "/reports": "/findings",
  "/suppressions": "/findings",
  "/pins": "/visits",
};
const here = (path: string) => (path === "/" ? route.path === "/" : (PARTS[route.path] ?? route.path).startsWith(path));

function find() {
  void router.push({ path: "/sessions", query: search.value ? { q: search.value } : {} });
}

async function signOut() {
  await api.POST("/api/v1/sign-out");
  queries.clear();
  void router.push("/sign-in");
}

function shortcut(event: KeyboardEvent) {
  const typing = event.target instanceof HTMLElement && event.target.closest("input, textarea, select");
  if (event.key === "/" && !typing) {
    event.preventDefault();
    searchField.value?.focus();
  }
}

onMounted(() => window.addEventListener("keydown", shortcut));
onUnmounted(() => window.removeEventListener("keydown", shortcut));
</script>

<template>
  <div class="min-h-screen">
    <a
      href="#content"
      class="absolute left-2 top-2 z-20 -translate-y-16 rounded bg-accent px-3 py-1 text-on-accent focus:translate-y-0"
      >To the content</a
    >
    <header class="border-b border-line bg-sheet">
      <div class="mx-auto flex max-w-[1600px] flex-wrap items-center gap-x-4 px-4 sm:px-7">
        <RouterLink to="/" class="flex items-center gap-2.5 py-3 text-[1.15rem] font-bold no-underline">
          <BrandMark class="h-6 w-6" />Aerie
        </RouterLink>
        <nav aria-label="Main" class="flex min-w-0 flex-wrap self-stretch max-sm:order-last max-sm:w-full">
          <RouterLink
            v-for="[path, name] in places"
            :key="path"
            :to="path"
            :aria-current="here(path) ? 'page' : undefined"
            class="flex items-center gap-1.5 border-b-[3px] border-transparent px-2 pt-[3px] text-soft no-underline hover:text-ink aria-[current]:border-accent aria-[current]:font-semibold aria-[current]:text-ink"
          >
            {{ name }}
            <span v-if="path === '/requests' && now?.yours" class="font-semibold text-wait"
              >{{ now.yours }}<span class="sr-only"> wait for your answer</span></span
            >
            <span v-if="path === '/findings' && now?.findings_new" class="font-semibold text-viol"
              >{{ now.findings_new }}<span class="sr-only"> new since yesterday</span></span
            >
          </RouterLink>
        </nav>
        <form class="ml-auto hidden py-2 md:block" role="search" @submit.prevent="find">
          <label class="relative block">
            <span class="sr-only">Find sessions by person, machine or address</span>
            <input
              ref="searchField"
              v-model="search"
              type="search"
              placeholder="Find"
              class="field w-36 pr-8 2xl:w-60"
            />
            <kbd
              class="mono pointer-events-none absolute right-2 top-1.5 rounded border border-line px-1.5 text-xs text-soft"
              >/</kbd
            >
          </label>
        </form>
        <Menu as="div" class="relative ml-auto md:ml-0">
          <MenuButton class="cursor-pointer py-2 text-left leading-tight" data-testid="account">
            <span class="block font-semibold">{{ me?.full_name ?? "…" }}</span>
            <span class="block text-[0.82rem] text-soft">{{ me?.roles.join(", ") }}</span>
          </MenuButton>
          <MenuItems class="sheet absolute right-0 z-10 mt-1 w-52 p-1 shadow-lg focus:outline-none">
            <MenuItem v-slot="{ active }">
              <RouterLink
                to="/account"
                class="block rounded px-3 py-1.5 no-underline"
                :class="{ 'bg-open': active }"
                data-testid="own-account"
                >Your account</RouterLink
              >
            </MenuItem>
            <MenuItem v-if="administers" v-slot="{ active }">
              <RouterLink to="/settings" class="block rounded px-3 py-1.5 no-underline" :class="{ 'bg-open': active }"
                >Settings</RouterLink
              >
            </MenuItem>
            <MenuItem v-slot="{ active }">
              <button class="w-full rounded px-3 py-1.5 text-left" :class="{ 'bg-open': active }" @click="turn">
                {{ theme === "dark" ? "Light colours" : "Dark colours" }}
              </button>
            </MenuItem>
            <MenuItem v-slot="{ active }">
              <button
                class="w-full rounded px-3 py-1.5 text-left"
                :class="{ 'bg-open': active }"
                data-testid="sign-out"
                @click="signOut"
              >
                Sign out
              </button>
            </MenuItem>
          </MenuItems>
        </Menu>
      </div>
    </header>
    <main id="content" tabindex="-1" class="mx-auto max-w-[1600px] px-4 py-5 focus:outline-none sm:px-7">
      <p
        v-if="me?.message"
        class="mb-4 whitespace-pre-line border-l-4 border-l-edge pl-3 text-soft"
        data-testid="message-of-the-day"
      >
        {{ me.message }}
      </p>
      <slot />
    </main>
    <ProveDialog />
  </div>
</template>

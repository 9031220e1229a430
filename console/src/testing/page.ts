import { QueryClient, VueQueryPlugin } from "@tanstack/vue-query";
import { enableAutoUnmount, flushPromises, mount } from "@vue/test-utils";
import { afterEach, vi } from "vitest";
import { defineComponent, h, type Component } from "vue";
import { createMemoryHistory, createRouter, RouterView, type RouteRecordRaw } from "vue-router";
import { focus } from "../lib/focus";

// What a test put up is taken down after it, with its timers and connections.
enableAutoUnmount(afterEach);

const plugins = () => {
  // Nothing is tried again: what fails is seen to fail at once.
  const queryClient = new QueryClient({ defaultOptions: { queries: { retry: false, gcTime: Infinity } } });
  return [[VueQueryPlugin, { queryClient }]] as [typeof VueQueryPlugin, { queryClient: QueryClient }][];
};

/** Shows what the routes have at a path, as the console does. */
export async function visit(routes: readonly RouteRecordRaw[], path: string) {
  const router = createRouter({ history: createMemoryHistory(), routes: [...routes] });
  await router.push(path);
  const page = mount(RouterView, {
    attachTo: document.body,
    global: { plugins: [router, ...plugins()], directives: { focus } },
  });
  await flushPromises();
  return { page, router };
}

/** Shows one component, at an address of its own. */
export async function show<T extends Component>(component: T, props: Record<string, unknown> = {}, path = "/") {
  const rest = { path: "/:rest(.*)*", component: { template: "<i />" } };
  const router = createRouter({ history: createMemoryHistory(), routes: [rest] });
  await router.push(path);
  const page = mount(component as Component, {
    props,
    attachTo: document.body,
    global: { plugins: [router, ...plugins()], directives: { focus } },
  });
  await flushPromises();
  return { page, router };
}

/** Runs a composable within a component, and gives what it gives. */
export async function within<T>(use: () => T, path = "/") {
  let given: T | undefined;
  const host = defineComponent({
    setup() {
      given = use();
      return () => h("i");
    },
  });
  return { ...(await show(host, {}, path)), it: given as T };
}

/** Waits until something holds, also on a machine that is busy with other things. */
export const eventually = (holds: () => void | Promise<void>) => vi.waitFor(holds, { timeout: 20_000 });

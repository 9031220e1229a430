import { createRouter, createWebHistory } from "vue-router";

declare module "vue-router" {
  interface RouteMeta {
    title: string;
    open?: boolean;
  }
}

export const router = createRouter({
  history: createWebHistory(),
  scrollBehavior: (to, _from, saved) => saved ?? (to.hash ? { el: to.hash } : { top: 0 }),
  routes: [
    { path: "/sign-in", component: () => import("./pages/SignInPage.vue"), meta: { title: "Sign in", open: true } },
    { path: "/", component: () => import("./pages/NowPage.vue"), meta: { title: "Now" } },
    { path: "/sessions", component: () => import("./pages/SessionsPage.vue"), meta: { title: "Sessions" } },
    {
      path: "/sessions/:id",
      component: () => import("./pages/SessionPage.vue"),
      props: true,
      meta: { title: "Session" },
    },
    { path: "/findings", component: () => import("./pages/FindingsPage.vue"), meta: { title: "Findings" } },
    {
      path: "/findings/:id",
      component: () => import("./pages/FindingPage.vue"),
      props: true,
      meta: { title: "Finding" },
    },
    { path: "/log", component: () => import("./pages/LogPage.vue"), meta: { title: "Log" } },
    {
      path: "/:rest(.*)*",
      component: () => import("./pages/NotFoundPage.vue"),
      meta: { title: "Not found", open: true },
    },
  ],
});

router.afterEach((to) => {
  document.title = `${to.meta.title} · Aerie`;
});

import { createRouter, createWebHistory } from "vue-router";

declare module "vue-router" {
  interface RouteMeta {
    title: string;
    open?: boolean;
    /** Without the frame of the console: a page that needs all the room. */
    bare?: boolean;
  }
}

export const router = createRouter({
  history: createWebHistory(),
  scrollBehavior: (to, _from, saved) => saved ?? (to.hash ? { el: to.hash } : { top: 0 }),
  routes: [
    { path: "/sign-in", component: () => import("./pages/SignInPage.vue"), meta: { title: "Sign in", open: true } },
    {
      path: "/welcome",
      component: () => import("./pages/WelcomePage.vue"),
      meta: { title: "Welcome", open: true },
    },
    {
      path: "/confirm/:code",
      component: () => import("./pages/ConfirmPage.vue"),
      props: true,
      meta: { title: "Confirm a sign-in", open: true },
    },
    {
      path: "/visit/:id?",
      component: () => import("./pages/VisitPage.vue"),
      props: true,
      meta: { title: "Visit", open: true },
    },
    {
      path: "/help/:queue",
      component: () => import("./pages/HelpPage.vue"),
      props: true,
      meta: { title: "Ask for help", open: true },
    },
    { path: "/visits", component: () => import("./pages/VisitsPage.vue"), meta: { title: "Visits" } },
    {
      path: "/visits/:id",
      component: () => import("./pages/VisitDetailPage.vue"),
      props: true,
      meta: { title: "Visit" },
    },
    { path: "/account", component: () => import("./pages/AccountPage.vue"), meta: { title: "Your account" } },
    { path: "/people", component: () => import("./pages/PeoplePage.vue"), meta: { title: "People" } },
    {
      path: "/people/:name",
      component: () => import("./pages/PersonPage.vue"),
      props: true,
      meta: { title: "Person" },
    },
    { path: "/machines", component: () => import("./pages/MachinesPage.vue"), meta: { title: "Machines" } },
    {
      path: "/machines/:name",
      component: () => import("./pages/MachinePage.vue"),
      props: true,
      meta: { title: "Machine" },
    },
    {
      path: "/machines/:name/desktop",
      component: () => import("./pages/DesktopPage.vue"),
      props: (to) => ({ name: to.params.name, way: to.query.way }),
      meta: { title: "Desktop", bare: true },
    },
    {
      path: "/sessions/:id/desktop",
      component: () => import("./pages/DesktopPage.vue"),
      props: true,
      meta: { title: "Desktop", bare: true },
    },
    { path: "/pins", component: () => import("./pages/PinsPage.vue"), meta: { title: "PINs" } },
    { path: "/settings", component: () => import("./pages/SettingsPage.vue"), meta: { title: "Settings" } },
    { path: "/requests", component: () => import("./pages/RequestsPage.vue"), meta: { title: "Requests" } },
    {
      path: "/requests/:id",
      component: () => import("./pages/RequestsPage.vue"),
      props: true,
      meta: { title: "Request" },
    },
    { path: "/coverage", component: () => import("./pages/CoveragePage.vue"), meta: { title: "Coverage" } },
    { path: "/detections", component: () => import("./pages/DetectionsPage.vue"), meta: { title: "Detections" } },
    {
      path: "/suppressions",
      component: () => import("./pages/SuppressionsPage.vue"),
      meta: { title: "Suppressed findings" },
    },
    { path: "/reports", component: () => import("./pages/ReportsPage.vue"), meta: { title: "Reports" } },
    { path: "/accesses", component: () => import("./pages/AccessesPage.vue"), meta: { title: "Accesses" } },
    { path: "/watch", component: () => import("./pages/WatchPage.vue"), meta: { title: "Live sessions" } },
    { path: "/", component: () => import("./pages/NowPage.vue"), meta: { title: "Now" } },
    { path: "/rules", component: () => import("./pages/PolicyPage.vue"), meta: { title: "Rules" } },
    {
      path: "/rules/history",
      component: () => import("./pages/HistoryPage.vue"),
      meta: { title: "History of the rules" },
    },
    { path: "/rules/use", component: () => import("./pages/RuleUsePage.vue"), meta: { title: "Use of the rules" } },
    {
      path: "/rules/drafts/:id",
      component: () => import("./pages/DraftPage.vue"),
      props: true,
      meta: { title: "Draft" },
    },
    { path: "/reach", component: () => import("./pages/ReachPage.vue"), meta: { title: "Reach" } },
    { path: "/reviews", component: () => import("./pages/ReviewsPage.vue"), meta: { title: "Reviews" } },
    {
      path: "/reviews/:id",
      component: () => import("./pages/ReviewPage.vue"),
      props: true,
      meta: { title: "Review" },
    },
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

import { type RouteRecordRaw, createRouter, createWebHistory } from "vue-router";

/** The pages, each with its address. */
export const routes: RouteRecordRaw[] = [
  {
    path: "/",
    name: "morning",
    component: () => import("./views/MorningView.vue"),
    props: (route) => ({ due: String(route.query.due ?? "") }),
  },
  { path: "/gates", name: "gates", component: () => import("./views/GatesView.vue") },
  {
    path: "/gates/:gate",
    name: "gate",
    component: () => import("./views/GateView.vue"),
    props: true,
  },
  { path: "/morning", redirect: (to) => ({ name: "morning", query: to.query }) },
  { path: "/ledger", name: "ledger", component: () => import("./views/LedgerView.vue") },
  { path: "/held", name: "held", component: () => import("./views/HeldView.vue") },
  { path: "/outputs", name: "outputs", component: () => import("./views/OutputsView.vue") },
  {
    path: "/lineage",
    name: "lineage",
    component: () => import("./views/LineageView.vue"),
    props: (route) => ({
      entry: route.query.entry === undefined ? null : Number(route.query.entry),
      output: String(route.query.output ?? ""),
    }),
  },
  { path: "/clears", name: "clears", component: () => import("./views/ClearsView.vue") },
  {
    path: "/entries/:id(\\d+)",
    name: "entry",
    component: () => import("./views/EntryView.vue"),
    props: (route) => ({ id: Number(route.params.id) }),
  },
  {
    path: "/entries/:id(\\d+)/rows",
    name: "rows",
    component: () => import("./views/RowsView.vue"),
    props: (route) => ({ id: Number(route.params.id) }),
  },
  {
    path: "/table",
    name: "table",
    component: () => import("./views/TableView.vue"),
    props: (route) => ({ path: String(route.query.path ?? "") }),
  },
  {
    path: "/configuration",
    name: "configuration",
    component: () => import("./views/ConfigurationView.vue"),
  },
  { path: "/new-gate", name: "new-gate", component: () => import("./views/NewGateView.vue") },
  { path: "/account", name: "account", component: () => import("./views/AccountView.vue") },
  { path: "/people", name: "people", component: () => import("./views/PeopleView.vue") },
  { path: "/audit", name: "audit", component: () => import("./views/AuditView.vue") },
  {
    path: "/sign-in",
    name: "sign-in",
    component: () => import("./views/SignInView.vue"),
    meta: { open: true },
  },
  {
    path: "/:rest(.*)*",
    name: "nothing",
    component: () => import("./views/NothingView.vue"),
    meta: { open: true },
  },
];

export const router = createRouter({
  history: createWebHistory(),
  scrollBehavior: (_to, _from, saved) => saved ?? { top: 0 },
  routes,
});

const TITLES: Record<string, string> = {
  gates: "Gates",
  morning: "Morning",
  ledger: "Ledger",
  held: "Held files",
  outputs: "Outputs",
  lineage: "Lineage",
  clears: "Clears",
  configuration: "Configuration",
  "new-gate": "A new gate",
  account: "Account",
  people: "People",
  audit: "Audit log",
  table: "Table",
  rows: "Rows in the database",
  "sign-in": "Sign in",
  nothing: "Nothing here",
};

router.afterEach((to) => {
  const subject =
    to.name === "gate"
      ? `Gate ${String(to.params.gate)}`
      : to.name === "entry"
        ? `Entry ${String(to.params.id)}`
        : TITLES[String(to.name)];
  document.title = subject ? `${subject} · Vadegate` : "Vadegate";
});

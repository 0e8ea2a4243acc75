import { MutationCache, QueryCache, QueryClient, VueQueryPlugin } from "@tanstack/vue-query";
import { createApp } from "vue";
import App from "./App.vue";
import { router } from "./router";
import { ApiError } from "./support/api";
import "./styles/main.css";

/** A session that has ended leads to the sign-in, and from there back here. */
function signInAgain(error: Error) {
  if (!(error instanceof ApiError) || error.status !== 401) return;
  const here = router.currentRoute.value;
  if (here.name !== "sign-in") {
    void router.replace({ name: "sign-in", query: { next: here.fullPath } });
  }
}

const queryClient = new QueryClient({
  queryCache: new QueryCache({ onError: signInAgain }),
  mutationCache: new MutationCache({ onError: signInAgain }),
  defaultOptions: {
    queries: {
      // Events tell what is stale; this is for what they do not tell.
      refetchInterval: 15_000,
      staleTime: 1000,
      retry: (failures, error) =>
        failures < 2 && !(error instanceof ApiError && error.status >= 400 && error.status < 500),
    },
  },
});

/** A piece of the page that is not there any more: the service is another version by now. */
window.addEventListener("vite:preloadError", (event) => {
  const KEY = "vadegate.reloaded";
  const before = Number(sessionStorage.getItem(KEY) ?? 0);
  // Not again and again, when that is not the cause.
  if (Date.now() - before < 10_000) return;
  sessionStorage.setItem(KEY, String(Date.now()));
  event.preventDefault();
  window.location.reload();
});

createApp(App).use(router).use(VueQueryPlugin, { queryClient }).mount("#app");

/** Keeps what is shown up to date: live events tell what has become stale. */

import { useQueryClient } from "@tanstack/vue-query";
import { onScopeDispose, readonly, ref } from "vue";
import { isHeld } from "./useHold";

export type Line = "connecting" | "live" | "lost";

/**
 * Follows the service's events while the scope lives.
 * @param options.gatherMs stale things are asked for again at most this often. @default 400
 */
export function useLive(options: { gatherMs?: number } = {}) {
  const gatherMs = options.gatherMs ?? 400;
  const queries = useQueryClient();
  const line = ref<Line>("connecting");
  let stale = new Set<string>();
  let timer: ReturnType<typeof setTimeout> | undefined;

  function freshen() {
    timer = undefined;
    for (const key of stale) if (!isHeld(key)) void queries.invalidateQueries({ queryKey: [key] });
    stale = new Set();
  }
  function mark(...keys: string[]) {
    for (const key of keys) stale.add(key);
    timer ??= setTimeout(freshen, gatherMs);
  }

  let source: EventSource | undefined;
  let again: ReturnType<typeof setTimeout> | undefined;
  let missed = false;
  function connect() {
    source = new EventSource("/api/v1/events");
    source.addEventListener("open", () => {
      // What happened while the line was down was not heard of.
      if (missed) void queries.invalidateQueries();
      missed = false;
      line.value = "live";
    });
    source.addEventListener("error", () => {
      missed = true;
      line.value = "lost";
      // The browser tries again by itself, unless the service refused.
      if (source?.readyState === EventSource.CLOSED) again = setTimeout(connect, 3000);
    });
    source.addEventListener("gate", () => mark("gates", "files", "service"));
    source.addEventListener("change", () => mark("gates", "files", "entries", "entry", "changes", "activity"));
  }
  function disconnect() {
    source?.close();
    source = undefined;
    missed = true;
    clearTimeout(again);
  }

  // A browser has only a few connections for one service, all tabs together: a page
  // that nobody sees, or that is kept for going back, must not hold one.
  function follow() {
    const seen = document.visibilityState === "visible";
    if (!seen) disconnect();
    else if (source === undefined) connect();
  }
  connect();
  document.addEventListener("visibilitychange", follow);
  window.addEventListener("pagehide", disconnect);
  window.addEventListener("pageshow", follow);
  onScopeDispose(() => {
    document.removeEventListener("visibilitychange", follow);
    window.removeEventListener("pagehide", disconnect);
    window.removeEventListener("pageshow", follow);
    disconnect();
    clearTimeout(timer);
  });
  return { line: readonly(line) };
}

/** Keeps what is shown up to date: live events tell what has become stale. */

import { useQueryClient } from "@tanstack/vue-query";
import { onScopeDispose, readonly, ref } from "vue";

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
    for (const key of stale) void queries.invalidateQueries({ queryKey: [key] });
    stale = new Set();
  }
  function mark(...keys: string[]) {
    for (const key of keys) stale.add(key);
    timer ??= setTimeout(freshen, gatherMs);
  }

  let source: EventSource | undefined;
  let again: ReturnType<typeof setTimeout> | undefined;
  function connect() {
    source = new EventSource("/api/v1/events");
    source.addEventListener("open", () => {
      // What happened while the line was down was not heard of.
      if (line.value === "lost") void queries.invalidateQueries();
      line.value = "live";
    });
    source.addEventListener("error", () => {
      line.value = "lost";
      // The browser tries again by itself, unless the service refused.
      if (source?.readyState === EventSource.CLOSED) again = setTimeout(connect, 3000);
    });
    source.addEventListener("gate", () => mark("gates", "files", "service"));
    source.addEventListener("change", () =>
      mark("gates", "files", "entries", "entry", "changes", "activity"),
    );
  }
  connect();
  onScopeDispose(() => {
    source?.close();
    clearTimeout(timer);
    clearTimeout(again);
  });
  return { line: readonly(line) };
}

/** Lists that stay as they are while somebody reads them. */

import { useQueryClient } from "@tanstack/vue-query";
import { onScopeDispose, readonly, ref, watch } from "vue";

interface Hold {
  key: string;
  held: () => boolean;
  miss: () => void;
}
const holds = new Set<Hold>();

/** Whether what is asked for under a key is to stay as it is; who holds it learns that it missed something. */
export function isHeld(key: string): boolean {
  const holding = [...holds].filter((hold) => hold.key === key && hold.held());
  for (const hold of holding) hold.miss();
  return holding.length > 0;
}

/**
 * Holds what is asked for under a key as long as `held` says so.
 * @returns whether it has changed meanwhile, and what reads it again.
 */
export function useHold(key: string, held: () => boolean) {
  const queries = useQueryClient();
  const missed = ref(false);
  const hold: Hold = { key, held, miss: () => (missed.value = true) };
  holds.add(hold);
  onScopeDispose(() => holds.delete(hold));
  function freshen() {
    missed.value = false;
    void queries.invalidateQueries({ queryKey: [key] });
  }
  watch(held, (now) => {
    if (!now && missed.value) freshen();
  });
  return { missed: readonly(missed), freshen };
}

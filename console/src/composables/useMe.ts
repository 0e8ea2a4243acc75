/** Who is signed in here, and what they may do. */

import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { get } from "../support/api";
import { mayDo } from "../support/roles";
import type { Role, Session } from "../support/types";
import { useWho } from "./useWho";

export const useSession = () =>
  useQuery({ queryKey: ["session"], queryFn: () => get<Session>("/session"), staleTime: 60_000 });

/** Whether who is signed in has a role, or may do as much. */
export function useMay(wanted: Role) {
  const { data } = useSession();
  return computed(() => mayDo(data.value?.role, wanted));
}

/**
 * By which name somebody does something: who signed in by name is that, and the holder of the
 * local token says it.
 */
export function useSigner() {
  const { data } = useSession();
  const typed = useWho();
  /** The name that they are known by; none where they say it themselves. */
  const named = computed(() => (data.value && !data.value.local ? data.value.name : null));
  const ready = computed(() => named.value !== null || typed.value.trim() !== "");
  /** What is sent with an order. */
  const who = (rehearse = false) => (named.value !== null ? null : rehearse ? "console" : typed.value);
  return { named, ready, who };
}

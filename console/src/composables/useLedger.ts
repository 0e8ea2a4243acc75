/** The entries that a filter asks for: a list of any length that does not move under the reader. */

import { keepPreviousData, useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, computed, ref, toValue, watch } from "vue";
import { get } from "../support/api";
import { type Filter, toOrder, toQuery, toRoute } from "../support/ledger";
import type { EntryPage } from "../support/types";
import { useZone } from "./useQueries";

const PAGE = 100;
/** Up to so many entries their bytes are added up. */
const ADDED = 200_000;

type Count = { entries: number; bytes?: number };

export function useLedger(filter: MaybeRefOrGetter<Filter>) {
  const zone = useZone();
  const queries = useQueryClient();
  // The address says all of it; what shows other columns only asks for the same.
  const key = computed(() => toRoute({ ...toValue(filter), columns: [] }));
  const question = () => toQuery(toValue(filter), Date.now(), zone.value);
  const newestFirst = computed(() => toValue(filter).sort === "entered" && !toValue(filter).up);

  /** The newest entry when the list was begun: what comes later is counted, and shown when it is wanted. */
  const top = ref<number | null>(null);
  watch(
    () => JSON.stringify([key.value, zone.value]),
    () => (top.value = null),
    { flush: "sync" },
  );
  const list = useInfiniteQuery({
    queryKey: ["entries", "list", key, zone],
    queryFn: async ({ pageParam }) => {
      const below = newestFirst.value && top.value !== null ? top.value + 1 : undefined;
      const asked = { ...question(), ...toOrder(toValue(filter)), cursor: pageParam ?? below, limit: PAGE };
      const page = await get<EntryPage>("/entries", asked);
      if (pageParam === null && top.value === null) top.value = page.entries[0]?.id ?? 0;
      return page;
    },
    initialPageParam: null as number | null,
    getNextPageParam: (page) => page.next,
    placeholderData: keepPreviousData,
  });
  const entries = computed(() => list.data.value?.pages.flatMap((page) => page.entries) ?? []);

  const { data: fresh } = useQuery({
    queryKey: ["entries", "fresh", key, zone, top],
    queryFn: async () => {
      const counts = await get<Count[]>("/entries/count", { ...question(), above: top.value ?? 0 });
      return counts[0]?.entries ?? 0;
    },
    enabled: () => newestFirst.value && top.value !== null,
  });
  /** How many came since the list was begun. */
  const newer = computed(() => (newestFirst.value ? (fresh.value ?? 0) : 0));
  function begin() {
    top.value = null;
    void queries.resetQueries({ queryKey: ["entries", "list", key.value, zone.value] });
  }
  // Nobody reads a list with nothing in it.
  watch([newer, entries], () => {
    if (newer.value > 0 && entries.value.length === 0) begin();
  });

  const { data: total, error: totalError } = useQuery({
    queryKey: ["entries", "total", key, zone],
    queryFn: async () => {
      const [all] = await get<Count[]>("/entries/count", question());
      const entries = all?.entries ?? 0;
      if (entries > ADDED) return { entries, bytes: null };
      const counts = await get<Count[]>("/entries/count", { ...question(), by: "state" });
      return { entries, bytes: counts.reduce((sum, one) => sum + (one.bytes ?? 0), 0) };
    },
  });
  return { ...list, entries, newer, top, begin, total, totalError, question };
}

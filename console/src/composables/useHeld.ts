/** What is held: by reason, and one after the other. */

import { useInfiniteQuery, useQuery } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, computed, toValue } from "vue";
import { get } from "../support/api";
import type { EntryPage, Excerpt, HeldGroup } from "../support/types";

const PAGE = 100;

/** Held entries by gate and reason, most first. */
export const useHeld = () => useQuery({ queryKey: ["entries", "held"], queryFn: () => get<HeldGroup[]>("/held") });

/** Entries of these numbers, page by page, in their order. */
export function useEntriesById(ids: MaybeRefOrGetter<number[]>) {
  const list = useInfiniteQuery({
    queryKey: ["entries", "ids", ids],
    queryFn: async ({ pageParam }) => {
      const asked = toValue(ids).slice(pageParam, pageParam + PAGE);
      if (asked.length === 0) return [];
      const page = await get<EntryPage>("/entries", { ids: asked.join(","), limit: PAGE, oldest_first: true });
      return page.entries;
    },
    initialPageParam: 0,
    getNextPageParam: (_page, pages) => (pages.length * PAGE < toValue(ids).length ? pages.length * PAGE : null),
  });
  return { ...list, entries: computed(() => list.data.value?.pages.flat() ?? []) };
}

/** Lines of an entry's file, around the faulty one. */
export const useExcerpt = (id: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: ["entry", "excerpt", id],
    queryFn: () => get<Excerpt>(`/entries/${toValue(id)}/excerpt`),
    retry: false,
  });

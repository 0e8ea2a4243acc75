/** Outputs, and what hangs together with them. */

import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, toValue } from "vue";
import { get } from "../support/api";
import type { Family, Outputs } from "../support/types";

export interface OutputFilter {
  text: string;
  gate: string;
  /** What it is; empty for all. */
  role: string;
}

/** Outputs in order of path, page by page. */
export const useOutputs = (filter: MaybeRefOrGetter<OutputFilter>) =>
  useInfiniteQuery({
    queryKey: ["entries", "outputs", filter],
    queryFn: ({ pageParam }) =>
      get<Outputs>("/outputs/all", { ...toValue(filter), cursor: pageParam ?? undefined, limit: 100 }),
    initialPageParam: null as string | null,
    getNextPageParam: (page) => page.next,
    placeholderData: keepPreviousData,
  });

/** What an entry or an output came from, and what came of it. */
export const useFamily = (of: MaybeRefOrGetter<{ entry: number | null; output: string }>) =>
  useQuery({
    queryKey: ["entries", "family", of],
    queryFn: () => {
      const { entry, output } = toValue(of);
      return get<Family>("/family", entry === null ? { output } : { entry });
    },
  });

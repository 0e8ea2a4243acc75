/** What the pages ask of the service, each question once. */

import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, computed, toValue } from "vue";
import { get, getTagged } from "../support/api";
import { wholeSpan } from "../support/chart";
import type {
  ActivitySpan,
  Board,
  Change,
  ClearRule,
  DropFiles,
  DueCell,
  DueView,
  EntryDetail,
  EntryPage,
  EntryQuery,
  Gate,
  LoadedRows,
  OutputAccount,
  PlaceFolder,
  Removal,
  Sample,
  ServiceInfo,
  Verdict,
} from "../support/types";

export const useGates = () => useQuery({ queryKey: ["gates"], queryFn: () => getTagged<Gate[]>("/gates") });

export const useService = () =>
  useQuery({
    queryKey: ["service"],
    queryFn: () => get<ServiceInfo>("/service"),
    staleTime: 60_000,
  });

/** The time zone that the service counts its days in. */
export function useZone() {
  const { data } = useService();
  return computed(() => data.value?.timezone ?? "UTC");
}

const ofGate = (name: string) => `/gates/${encodeURIComponent(name)}`;

export const useGate = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["gates", name],
    queryFn: () => get<Gate>(ofGate(toValue(name))),
  });

export interface FileFilter {
  verdict: Verdict | "all";
  text: string;
}

/** What lies in a drop folder, page by page. Folders are listed by the command line; here they
 * would only be in the way. */
export const useFiles = (name: MaybeRefOrGetter<string>, filter: MaybeRefOrGetter<FileFilter>) =>
  useInfiniteQuery({
    queryKey: ["files", name, filter],
    queryFn: ({ pageParam }) => {
      const { verdict, text } = toValue(filter);
      return get<DropFiles>(`${ofGate(toValue(name))}/files`, {
        cursor: pageParam ?? undefined,
        limit: 200,
        text,
        verdict: verdict === "all" ? undefined : verdict,
        without_folders: true,
      });
    },
    initialPageParam: null as string | null,
    getNextPageParam: (page) => page.next,
    placeholderData: keepPreviousData,
  });

/** Entries page by page, newest first. */
export const useEntries = (query: MaybeRefOrGetter<EntryQuery>, options: { limit?: number } = {}) =>
  useInfiniteQuery({
    queryKey: ["entries", query, options.limit ?? 50],
    queryFn: ({ pageParam }) =>
      get<EntryPage>("/entries", {
        ...toValue(query),
        cursor: pageParam ?? undefined,
        limit: options.limit ?? 50,
      }),
    initialPageParam: null as number | null,
    getNextPageParam: (page) => page.next,
    placeholderData: keepPreviousData,
  });

export const useEntry = (id: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: ["entry", id],
    queryFn: () => get<EntryDetail>(`/entries/${toValue(id)}`),
  });

/** Several entries, each whole. */
export const useEntriesOf = (ids: MaybeRefOrGetter<number[]>) =>
  useQuery({
    queryKey: ["entry", "several", ids],
    queryFn: () => Promise.all(toValue(ids).map((id) => get<EntryDetail>(`/entries/${id}`))),
    enabled: () => toValue(ids).length > 0,
  });

/** What lies in a folder of a place, once it is to be looked at: the place is asked. */
export const usePlaceFolder = (
  place: MaybeRefOrGetter<string>,
  folder: MaybeRefOrGetter<string>,
  wanted: MaybeRefOrGetter<boolean>,
) =>
  useQuery({
    queryKey: ["place", place, folder],
    queryFn: () => get<PlaceFolder>(`/places/${encodeURIComponent(toValue(place))}/files`, { folder: toValue(folder) }),
    enabled: () => toValue(wanted),
    retry: false,
    staleTime: 5_000,
  });

/** What is in a file. */
export const useSample = (path: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["sample", path],
    queryFn: () => get<Sample>("/sample", { path: toValue(path) }),
    retry: false,
  });

/** The first rows of an entry in the database into which it was loaded. */
export const useLoadedRows = (id: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: ["loaded", id],
    queryFn: () => get<LoadedRows>(`/entries/${toValue(id)}/rows`),
    retry: false,
  });

/** What was written into an output, batch by batch; nothing when it is none. */
export const useOutput = (path: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["output", path],
    queryFn: () => get<OutputAccount>("/outputs", { path: toValue(path) }),
  });

/** The newest changes, newest first. */
export const useChanges = (limit: number) =>
  useQuery({
    queryKey: ["changes", limit],
    queryFn: async () => (await get<Change[]>("/changes", { limit })).reverse(),
  });

export interface Span {
  hours: number;
  minutes: number;
}

export const useActivity = (span: MaybeRefOrGetter<Span>) =>
  useQuery({
    queryKey: ["activity", span],
    queryFn: async () => wholeSpan(await get<ActivitySpan>("/activity", { ...toValue(span) })),
    placeholderData: keepPreviousData,
  });

/** The morning on one screen; states change by the clock alone too. */
export const useBoard = () =>
  useQuery({ queryKey: ["board"], queryFn: () => get<Board>("/board"), refetchInterval: 15_000 });

/** The rules of what is expected, as they stand today. */
export const useDues = () =>
  useQuery({ queryKey: ["dues"], queryFn: () => get<DueView[]>("/dues"), refetchInterval: 15_000 });

/** Expectations of a rule, day by day. */
export const useDueCells = (name: MaybeRefOrGetter<string>, days: MaybeRefOrGetter<{ since: string; until: string }>) =>
  useQuery({
    queryKey: ["dues", "cells", name, days],
    queryFn: () => get<DueCell[]>("/dues/cells", { name: toValue(name), ...toValue(days) }),
    enabled: () => toValue(name) !== "",
    refetchInterval: 15_000,
    placeholderData: keepPreviousData,
  });

/** The rules by which files are cleared. */
export const useClears = () => useQuery({ queryKey: ["clears"], queryFn: () => get<ClearRule[]>("/clears") });

const REMOVALS = 50;

/** Files that were removed page by page, newest first. */
export const useRemovals = (rule: MaybeRefOrGetter<string>) =>
  useInfiniteQuery({
    queryKey: ["removals", rule],
    queryFn: ({ pageParam }) =>
      get<Removal[]>("/removals", { rule: toValue(rule), cursor: pageParam ?? undefined, limit: REMOVALS }),
    initialPageParam: null as number | null,
    getNextPageParam: (page) => (page.length < REMOVALS ? null : (page.at(-1)?.id ?? null)),
    placeholderData: keepPreviousData,
  });

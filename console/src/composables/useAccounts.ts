/** What the pages of people ask of the service. */

import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, toValue } from "vue";
import { get } from "../support/api";
import type { AuditLine, SessionView, Token, User } from "../support/types";

export const useUsers = () => useQuery({ queryKey: ["users"], queryFn: () => get<User[]>("/users") });

export const useTokens = () => useQuery({ queryKey: ["tokens"], queryFn: () => get<Token[]>("/tokens") });

export const useSessions = (all: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ["sessions", all],
    queryFn: () => get<SessionView[]>("/sessions", { all: toValue(all) || undefined }),
  });

export interface AuditFilter {
  who?: string | undefined;
  what?: string | undefined;
  text?: string | undefined;
  failed?: boolean | undefined;
}

const LINES = 100;

/** Lines of the audit log page by page, newest first. */
export const useAudit = (filter: MaybeRefOrGetter<AuditFilter>) =>
  useInfiniteQuery({
    queryKey: ["audit", filter],
    queryFn: ({ pageParam }) =>
      get<AuditLine[]>("/audit", { ...toValue(filter), cursor: pageParam ?? undefined, limit: LINES }),
    initialPageParam: null as number | null,
    getNextPageParam: (page) => (page.length < LINES ? null : (page.at(-1)?.id ?? null)),
    placeholderData: keepPreviousData,
  });

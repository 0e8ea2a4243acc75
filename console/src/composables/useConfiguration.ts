/** The configuration: its files, what an edit would come to, and what it was before. */

import { useMutation, useQuery, useQueryClient, keepPreviousData } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, toValue } from "vue";
import { get, post, put } from "../support/api";
import type { ConfigChange, ConfigFile, ConfigKey, SavedConfig, TriedConfig } from "../support/types";
import { useSigner } from "./useMe";

export const useConfigFiles = () =>
  useQuery({ queryKey: ["configuration"], queryFn: () => get<ConfigFile[]>("/configuration") });

export const useConfigKeys = () =>
  useQuery({
    queryKey: ["configuration", "keys"],
    queryFn: () => get<ConfigKey[]>("/configuration/keys"),
    staleTime: Infinity,
  });

export interface Edited {
  path: string;
  text: string;
}

/** What an edited file would come to; nothing is asked while there is none. */
export const useTriedConfig = (edited: MaybeRefOrGetter<Edited | null>) =>
  useQuery({
    queryKey: ["configuration", "tried", edited],
    queryFn: () => post<TriedConfig>("/configuration/try", toValue(edited)),
    enabled: () => toValue(edited) !== null,
    placeholderData: keepPreviousData,
    retry: false,
  });

export function useSaveConfig() {
  const queries = useQueryClient();
  const signer = useSigner();
  const save = useMutation({
    mutationFn: (order: Edited & { was: string | null; why: string }) =>
      put<SavedConfig>("/configuration", { ...order, who: signer.who() }),
    onSettled: () => queries.invalidateQueries(),
  });
  return { save, signer };
}

export const useConfigChanges = () =>
  useQuery({
    queryKey: ["configuration", "changes"],
    queryFn: () => get<ConfigChange[]>("/configuration/changes"),
  });

export const configChange = (id: number) => get<ConfigChange>(`/configuration/changes/${id}`);

/** A new gate: a folder is picked by looking, what is proposed for it is chosen from, and a text comes of it. */

import { keepPreviousData, useQuery } from "@tanstack/vue-query";
import { computed, onScopeDispose, reactive, ref, watch } from "vue";
import { get, post } from "../support/api";
import { draftOf, type GateForm, formOf } from "../support/newGate";
import type { EditedFile, FolderView, GateProposal } from "../support/types";

/** What lies in a folder; the roots when there is none. */
export const useFolder = (path: () => string) =>
  useQuery({
    queryKey: ["folders", path],
    queryFn: () => get<FolderView>("/folders", { path: path() }),
    placeholderData: keepPreviousData,
    retry: false,
  });

export function useNewGate() {
  /** The folder that was taken, and the file in it that is one of many to come. */
  const taken = ref<{ folder: string; sample: string | null } | null>(null);
  const { data: proposal, error: proposalError } = useQuery({
    queryKey: ["new-gate", "proposal", taken],
    queryFn: () => post<GateProposal>("/configuration/proposal", taken.value),
    enabled: () => taken.value !== null,
    retry: false,
  });
  const form = reactive<GateForm>(formOf(null));
  watch(proposal, (now) => now && Object.assign(form, formOf(now)));

  // The text is asked for when the choosing rests.
  const asked = ref<ReturnType<typeof draftOf> | null>(null);
  let timer: ReturnType<typeof setTimeout> | undefined;
  watch(form, () => {
    clearTimeout(timer);
    timer = setTimeout(() => (asked.value = proposal.value ? draftOf(form) : null), 250);
  });
  onScopeDispose(() => clearTimeout(timer));
  const { data: written, error: writeError } = useQuery({
    queryKey: ["new-gate", "draft", asked],
    queryFn: () => post<EditedFile>("/configuration/draft", asked.value),
    enabled: () => asked.value !== null,
    placeholderData: keepPreviousData,
    retry: false,
  });

  /** What is to be saved: what was written, until somebody writes in it. */
  const text = ref("");
  const byHand = ref(false);
  watch(written, (now) => {
    if (now && !byHand.value) text.value = now.text;
  });
  watch(text, (now) => (byHand.value = written.value !== undefined && now !== written.value.text));
  const writeAnew = () => (text.value = written.value?.text ?? "");
  const error = computed(() => proposalError.value ?? writeError.value);
  return { taken, proposal, form, written, text, byHand, writeAnew, error };
}

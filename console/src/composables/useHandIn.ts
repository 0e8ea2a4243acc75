/** Files that are handed in at a gate, one after the other. */

import { useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { handIn } from "../support/handIn";
import type { HandedIn } from "../support/types";
import { useSigner } from "./useMe";

export interface HandedFile {
  key: number;
  name: string;
  bytes: number;
  sent: number;
  became: HandedIn | null;
  error: Error | null;
}

export function useHandIn(gate: () => string) {
  const signer = useSigner();
  const queries = useQueryClient();
  const files = ref<HandedFile[]>([]);
  let last: Promise<void> = Promise.resolve();
  let keys = 0;

  async function send(file: File, key: number) {
    const told = () => files.value.find((one) => one.key === key)!;
    try {
      const progress = (sent: number) => (told().sent = sent);
      told().became = await handIn(gate(), file.name, file, { who: signer.who(), progress });
      told().sent = file.size;
    } catch (error) {
      told().error = error instanceof Error ? error : new Error(String(error));
    }
    void queries.invalidateQueries();
  }
  function add(list: Iterable<File>) {
    for (const file of list) {
      const key = (keys += 1);
      files.value.push({ key, name: file.name, bytes: file.size, sent: 0, became: null, error: null });
      last = last.then(() => send(file, key));
    }
  }
  /** Those that are over are shown no more. */
  function tidy() {
    files.value = files.value.filter((file) => file.became === null && file.error === null);
  }
  return { files, add, tidy, signer };
}

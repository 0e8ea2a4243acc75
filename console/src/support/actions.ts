/** What people do to entries, in words. */

import { counted } from "./format";
import type { EntryAction, Done, EntryState } from "./types";

interface Words {
  /** On the button that opens it. */
  name: string;
  title: string;
  what: string;
  yes: string;
}

export const ACTIONS: Record<EntryAction, Words> = {
  reopen: {
    name: "Reopen …",
    title: "Have it worked again?",
    what: "The next pass works the file from where it lies. What it made before stays: rows that were appended are appended again.",
    yes: "Reopen",
  },
  again: {
    name: "Work again …",
    title: "Have it worked again?",
    what: "The next pass works the file as it lies there now. If nothing was mended it will be held again.",
    yes: "Work again",
  },
  file: {
    name: "File as it is …",
    title: "File it as it is?",
    what: "The file goes to the archive without work, and the same content counts as done.",
    yes: "File as it is",
  },
  delete: {
    name: "Delete the file …",
    title: "Delete the file?",
    what: "The file is removed from the disk; its entry stays and says who did it. The same content can come again.",
    yes: "Delete",
  },
  forget: {
    name: "Forget …",
    title: "Let the same content come again?",
    what: "The entry stays, marked as forgotten, and nothing is deleted. The same content is no repeat any more.",
    yes: "Forget",
  },
  unload: {
    name: "Take its rows out …",
    title: "Take its rows out of the database?",
    what: "The rows that carry the number of this entry are deleted from the table. The entry stays, and its history says who did it; reopened it is loaded again.",
    yes: "Take them out",
  },
};

/** What can be done to an entry in a state, the most usual first; its rows may be in a database. */
export function actionsFor(state: EntryState, loaded = false): EntryAction[] {
  const unload: EntryAction[] = loaded && state === "filed" ? ["unload"] : [];
  switch (state) {
    case "held":
      return ["again", "file", "delete"];
    case "filed":
    case "adopted":
    case "passed over":
      return ["reopen", ...unload, "forget"];
    case "gone":
      return ["forget"];
    default:
      return [];
  }
}

/** What was done, in a sentence. */
export function told(action: EntryAction, done: Done): string {
  const count = counted(done.done.length, "entry", "entries");
  const refused = done.refused.length > 0 ? ` ${done.refused.length} could not be.` : "";
  switch (action) {
    case "reopen":
    case "again":
      return `${count}: the next pass works ${done.done.length === 1 ? "it" : "them"}.${refused}`;
    case "file":
      return `${count}: filed by the next pass.${refused}`;
    case "delete":
      return `${count}: deleted.${refused}`;
    case "forget":
      return `${count}: forgotten.${refused}`;
    case "unload":
      return `${count}: taken out of the database.${refused}`;
  }
}

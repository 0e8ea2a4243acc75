/** Where somebody is in a configuration: the section, and the key that is being written. */

export interface Place {
  /** As the reference has it, such as `[gate.NAME]`; empty above the first section. */
  section: string;
  /** The key of the line; empty where there is none. */
  key: string;
  /** Whether the cursor stands in the key, so that it can be completed. */
  writing: boolean;
}

/** Names of one's own stand in the second part: `[gate.tide.merge]` is `[gate.NAME.merge]`. */
export function sectionOf(header: string): string {
  const parts = header.split(".").map((part) => part.trim());
  if (parts.length > 1) parts[1] = "NAME";
  return `[${parts.join(".")}]`;
}

/** The place at an offset of a text. */
export function placeAt(text: string, offset: number): Place {
  const before = text.slice(0, offset);
  const headers = [...before.matchAll(/^\s*\[\[?([^\]\n]+)\]\]?/gm)];
  const section = headers.length === 0 ? "" : sectionOf(headers.at(-1)![1]!);
  const start = before.lastIndexOf("\n") + 1;
  const end = text.indexOf("\n", offset);
  const line = text.slice(start, end === -1 ? undefined : end);
  const key = /^\s*([a-z_]+)/.exec(line)?.[1] ?? "";
  const writing = /^\s*[a-z_]*$/.test(text.slice(start, offset));
  return { section, key, writing };
}

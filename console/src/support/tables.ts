/** What is told of tables and of the accounts of outputs. */

import type { Bar, OutputAccount, OutputPart, Sample } from "./types";

/** Heights of bars in percent of the highest; one that is there is seen. */
export function heights(bars: readonly Bar[]): number[] {
  const most = Math.max(1, ...bars.map((bar) => bar.count));
  return bars.map((bar) => (bar.count === 0 ? 0 : Math.max(8, Math.round((bar.count * 100) / most))));
}

const DELIMITERS: Record<string, string> = {
  ",": "commas",
  ";": "semicolons",
  "\t": "tabs",
  "|": "bars",
};

/** What kind of file it is: `delimited text, utf-8, separated by commas`. */
export function kindOf(sample: Sample): string {
  const parts = [sample.format];
  if (sample.packed != null) parts.push(`compressed (${sample.packed})`);
  if (sample.encoding != null) parts.push(sample.encoding);
  if (sample.delimiter != null) {
    parts.push(`separated by ${DELIMITERS[sample.delimiter] ?? `\`${sample.delimiter}\``}`);
  }
  return parts.join(", ");
}

/** The account of an output that these batches alone wrote. */
export function accountOf(parts: OutputPart[]): OutputAccount {
  const sum = { rows_in: 0, rows_out: 0, set_aside: 0, left_out: 0 };
  for (const { account } of parts) {
    if (account === null) continue;
    sum.rows_in += account.rows_in;
    sum.rows_out += account.rows_out;
    sum.set_aside += account.set_aside;
    sum.left_out += account.left_out;
  }
  return { ...sum, batches: parts.length, parts, next: null };
}

/** Whether all rows that went in are accounted for. */
export const addsUp = (account: OutputAccount) =>
  account.rows_in === account.rows_out + account.set_aside + account.left_out;

/** A path as it stands in a folder. */
export const joined = (folder: string, path: string) => `${folder.replace(/\/$/, "")}/${path}`;

/** Whether a name is that of a table which can be looked into. */
export function isTable(name: string): boolean {
  return /\.(csv|tsv|tab|txt|jsonl|ndjson|json|xlsx|xlsm|xls|ods)(\.gz)?$/i.test(name);
}

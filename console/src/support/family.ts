/** Laying out what hangs together: what comes from something stands to the right of it. */

import type { Family, FamilyMember } from "./types";

/** Without outputs that are nothing but the entry that they became; `kept` stays. */
export function shortened(family: Family, kept: string): Family {
  const entries = new Set(family.members.filter((one) => one.kind === "entry").map((one) => one.key));
  const became = new Map<string, string>();
  for (const member of family.members) {
    if (member.kind !== "output" || member.key === kept) continue;
    const next = family.links.filter((link) => link.from === member.key).map((link) => link.to);
    if (next.length === 1 && entries.has(next[0]!)) became.set(member.key, next[0]!);
  }
  const links = family.links
    .filter((link) => !became.has(link.from))
    .map(({ from, to }) => ({ from, to: became.get(to) ?? to }));
  return { ...family, members: family.members.filter((one) => !became.has(one.key)), links };
}

export interface Placed {
  member: FamilyMember;
  column: number;
  row: number;
}

export interface Layout {
  placed: Placed[];
  links: { from: Placed; to: Placed }[];
  columns: number;
  rows: number;
}

/** Columns by the longest way from a source; rows so that links cross little. */
export function layout(family: Family): Layout {
  const sources = new Map<string, string[]>();
  for (const { from, to } of family.links) sources.set(to, [...(sources.get(to) ?? []), from]);
  const columns = new Map<string, number>();
  const columnOf = (key: string, above: ReadonlySet<string>): number => {
    const known = columns.get(key);
    if (known !== undefined) return known;
    // What would come from itself, as a file that is edited in its place, ends there.
    const before = (sources.get(key) ?? []).filter((source) => !above.has(source));
    const within = new Set([...above, key]);
    const column = before.reduce((most, source) => Math.max(most, columnOf(source, within) + 1), 0);
    if (above.size === 0 || before.length === (sources.get(key) ?? []).length) columns.set(key, column);
    return column;
  };
  const byColumn: Placed[][] = [];
  for (const member of family.members) {
    const column = columnOf(member.key, new Set());
    const there = (byColumn[column] ??= []);
    there.push({ member, column, row: there.length });
  }
  const places = new Map(byColumn.flat().map((placed) => [placed.member.key, placed]));
  for (const there of byColumn.filter((one) => one !== undefined)) {
    // Each near the middle of what it comes from.
    const middle = ({ member, row }: Placed) => {
      const rows = (sources.get(member.key) ?? []).flatMap((key) => places.get(key)?.row ?? []);
      return rows.length === 0 ? row : rows.reduce((sum, one) => sum + one, 0) / rows.length;
    };
    const wanted = new Map(there.map((placed) => [placed, middle(placed)]));
    there.sort((one, other) => wanted.get(one)! - wanted.get(other)!);
    there.forEach((placed, row) => (placed.row = row));
  }
  const links = family.links.flatMap(({ from, to }) => {
    const [one, other] = [places.get(from), places.get(to)];
    return one && other ? [{ from: one, to: other }] : [];
  });
  const rows = Math.max(0, ...byColumn.filter(Boolean).map((there) => there.length));
  return { placed: [...places.values()], links, columns: byColumn.length, rows };
}

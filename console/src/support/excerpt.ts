/** Showing a line with what a reason quotes of it. */

export interface Piece {
  text: string;
  marked: boolean;
}

/** A line in pieces: what is quoted stands out, the longest of it first. */
export function marked(line: string, quoted: string[]): Piece[] {
  const wanted = [...new Set(quoted)].filter((text) => text !== "").sort((a, b) => b.length - a.length);
  const pieces: Piece[] = [];
  let plain = "";
  for (let at = 0; at < line.length;) {
    const found = wanted.find((text) => line.startsWith(text, at));
    if (found === undefined) {
      plain += line[at];
      at += 1;
      continue;
    }
    if (plain !== "") pieces.push({ text: plain, marked: false });
    pieces.push({ text: found, marked: true });
    plain = "";
    at += found.length;
  }
  if (plain !== "") pieces.push({ text: plain, marked: false });
  return pieces;
}

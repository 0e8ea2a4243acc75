/** Writing sizes, counts and times for people. */

const UNITS = ["KiB", "MiB", "GiB", "TiB"];

/** Characters that are not seen but do something: controls, line and paragraph ends,
 * marks of direction. */
const UNSEEN = /[\p{Cc}\u2028\u2029\u200e\u200f\u061c\u202a-\u202e\u2066-\u2069]/gu;
const SHORT: Record<string, string> = { "\n": "\\n", "\r": "\\r", "\t": "\\t" };

/** A name from outside as it is shown: what is not seen stands escaped. */
export function visible(text: string): string {
  return text.replace(UNSEEN, (c) => {
    const code = c.codePointAt(0) ?? 0;
    return SHORT[c] ?? (code < 256 ? `\\x${code.toString(16).padStart(2, "0")}` : `\\u{${code.toString(16)}}`);
  });
}

/** A size: `4.1 KiB`. */
export function size(bytes: number): string {
  if (bytes < 1024) return `${bytes} B`;
  let value = bytes;
  let unit = "";
  for (const next of UNITS) {
    if (value < 1024) break;
    value /= 1024;
    unit = next;
  }
  return `${value.toFixed(1)} ${unit}`;
}

/** A count with its thousands separated: `12,345`. */
export function count(number: number): string {
  return number.toLocaleString("en-GB");
}

/** A count and its noun: `1 file`, `3 files`. */
export function counted(number: number, one: string, many = `${one}s`): string {
  return `${count(number)} ${number === 1 ? one : many}`;
}

/** How long ago `at` was, in its largest unit; `now` in milliseconds. */
export function ago(at: string | null, now: number): string {
  if (at === null) return "never";
  const seconds = Math.max(0, Math.floor((now - Date.parse(at)) / 1000));
  if (seconds < 60) return `${seconds} s ago`;
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ago`;
  if (seconds < 86_400) return `${Math.floor(seconds / 3600)} h ago`;
  return `${Math.floor(seconds / 86_400)} d ago`;
}

/** How long until `at`, in its largest unit; `now` in milliseconds. */
export function until(at: string, now: number): string {
  const seconds = Math.ceil((Date.parse(at) - now) / 1000);
  if (seconds <= 0) return "now";
  if (seconds < 60) return `in ${seconds} s`;
  if (seconds < 3600) return `in ${Math.round(seconds / 60)} min`;
  if (seconds < 86_400) return `in ${Math.round(seconds / 3600)} h`;
  return `in ${Math.round(seconds / 86_400)} d`;
}

/** How much later `to` is than `from`: `+7.0 s`. */
export function later(from: string, to: string): string {
  const seconds = Math.max(0, (Date.parse(to) - Date.parse(from)) / 1000);
  if (seconds < 60) return `+${seconds.toFixed(1)} s`;
  if (seconds < 3600) return `+${Math.floor(seconds / 60)} min`;
  return `+${Math.floor(seconds / 3600)} h`;
}

/** A time in `zone`, to the second: `2026-03-01 06:05:09`. */
export function moment(at: string, zone: string): string {
  return part(at, zone, { dateStyle: "short", timeStyle: "medium" });
}

/** The time of day in `zone`: `06:05`. */
export function clock(at: string, zone: string): string {
  return part(at, zone, { hour: "2-digit", minute: "2-digit" });
}

/** A time in `zone`, to the minute: `2026-03-01 06:05`. */
export function minute(at: string, zone: string): string {
  return part(at, zone, { dateStyle: "short", timeStyle: "short" });
}

/** When a day begins in `zone`, as RFC 3339; null when `day` is none. */
export function startOfDay(day: string, zone: string): string | null {
  const midnight = Date.parse(`${day}T00:00:00Z`);
  if (!/^\d{4}-\d{2}-\d{2}$/.test(day) || Number.isNaN(midnight)) return null;
  // What the clock of the zone shows at a time is that time and its offset. Near a change of
  // the clock the offset is that of the second guess.
  const offset = (at: number) => Date.parse(`${moment(new Date(at).toISOString(), zone).replace(" ", "T")}Z`) - at;
  const guess = midnight - offset(midnight);
  return new Date(midnight - offset(guess)).toISOString();
}

/** The day after: `2026-03-01` after `2026-02-28`. */
export function dayAfter(day: string): string {
  return new Date(Date.parse(`${day}T00:00:00Z`) + 86_400_000).toISOString().slice(0, 10);
}

/** A formatter is dear to make; each is made once. */
const formatters = new Map<string, Intl.DateTimeFormat>();

function part(at: string, zone: string, options: Intl.DateTimeFormatOptions): string {
  const key = `${zone} ${Object.values(options).join(" ")} ${Object.keys(options).join(" ")}`;
  let formatter = formatters.get(key);
  if (!formatter) {
    // The Swedish form is the ISO 8601 one.
    formatter = new Intl.DateTimeFormat("sv-SE", { ...options, timeZone: zone });
    formatters.set(key, formatter);
  }
  return formatter.format(new Date(at));
}

/** A number that is only about right, to two digits: `147 023 113` is `150 000 000`. */
export function about(number: number): string {
  const step = 10 ** Math.max(0, Math.floor(Math.log10(Math.max(1, number))) - 1);
  return count(Math.round(number / step) * step);
}

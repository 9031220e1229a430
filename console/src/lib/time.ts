/** Times and durations as the console writes them, in the zone of the rules. */

const cache = new Map<string, Intl.DateTimeFormat>();

function format(zone: string, options: Intl.DateTimeFormatOptions): Intl.DateTimeFormat {
  const key = zone + JSON.stringify(options);
  let found = cache.get(key);
  if (!found) {
    found = new Intl.DateTimeFormat("en-GB", { timeZone: zone, hourCycle: "h23", ...options });
    cache.set(key, found);
  }
  return found;
}

export const clock = (at: string | number, zone: string) =>
  format(zone, { hour: "2-digit", minute: "2-digit" }).format(new Date(at));

export const clockSeconds = (at: string | number, zone: string) =>
  format(zone, { hour: "2-digit", minute: "2-digit", second: "2-digit" }).format(new Date(at));

/** `22 Nov, 20:18` */
export const dayAndClock = (at: string | number, zone: string) =>
  format(zone, { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" }).format(new Date(at));

/** `Monday 23 November` */
export const longDay = (at: string | number, zone: string) =>
  format(zone, { weekday: "long", day: "numeric", month: "long" }).format(new Date(at)).replace(",", "");

/** `2026-11-23` */
export const isoDay = (at: string | number, zone: string) =>
  format(zone, { year: "numeric", month: "2-digit", day: "2-digit" })
    .format(new Date(at))
    .split("/")
    .reverse()
    .join("-");

/** `46 s`, `16 min`, `2 h 41 min`, `3 d 4 h`: as the service writes durations. */
export function duration(seconds: number): string {
  const s = Math.max(0, Math.floor(seconds));
  const pair = (a: number, unit: string, b: number, small: string) =>
    b ? `${a} ${unit} ${b} ${small}` : `${a} ${unit}`;
  if (s < 60) return `${s} s`;
  if (s < 3600) return pair(Math.floor(s / 60), "min", s < 600 ? s % 60 : 0, "s");
  if (s < 86_400) return pair(Math.floor(s / 3600), "h", Math.floor((s % 3600) / 60), "min");
  return pair(Math.floor(s / 86_400), "d", Math.floor((s % 86_400) / 3600), "h");
}

/** `01:06:31` */
export function counter(ms: number): string {
  const s = Math.floor(ms / 1000);
  return [s / 3600, (s / 60) % 60, s % 60].map((n) => String(Math.floor(n)).padStart(2, "0")).join(":");
}

/** How long ago an instant was, in the words of a sentence: `just now`, `5 min ago`, `3 days ago`. */
export function ago(at: string | number, now = Date.now()): string {
  const seconds = Math.max(0, (now - new Date(at).getTime()) / 1000);
  if (seconds < 60) return "just now";
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ago`;
  if (seconds < 86_400) return `${Math.floor(seconds / 3600)} h ago`;
  const days = Math.floor(seconds / 86_400);
  return days === 1 ? "yesterday" : `${days} days ago`;
}

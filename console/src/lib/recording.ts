import type { Frame } from "../api/client";

/** A recording prepared for playing: the frames of one channel, and the time line that is left when pauses are cut. */
export interface Tape {
  frames: Frame[];
  /** Length in milliseconds. */
  length: number;
  columns: number;
  rows: number;
}

/** A pause longer than this is cut to it when idle time is skipped. */
export const LONGEST_PAUSE = 1500;

export function parseFrames(text: string): Frame[] {
  return text
    .split("\n")
    .filter((line) => line)
    .map((line) => JSON.parse(line) as Frame);
}

/** The channels that show something, in the order in which they were opened. */
export function channels(frames: Frame[]): { channel: number; title: string }[] {
  return frames
    .filter((f) => f.kind === "opened" && f.text !== "sftp" && !f.text?.startsWith("forward"))
    .map((f) => ({ channel: f.channel, title: f.text ?? "shell" }));
}

export function tape(all: Frame[], channel: number): Tape {
  // Channel 0 of a session holds its notices; a recording with one channel may use it for everything.
  const frames = all.filter((f) => f.channel === channel || (f.channel === 0 && f.kind === "mark"));
  const sizes = frames.filter((f) => f.kind === "size");
  return {
    frames,
    length: Math.max(1, all.at(-1)?.at ?? 1),
    columns: Math.max(20, ...sizes.map((f) => f.columns ?? 80)),
    rows: Math.max(6, ...sizes.map((f) => f.rows ?? 24)),
  };
}

/** How much happened in each of `buckets` equal parts of the recording, from 0 to 1. */
export function activity(frames: Frame[], length: number, buckets: number): number[] {
  const sums = new Array<number>(buckets).fill(0);
  for (const f of frames) {
    const at = Math.min(buckets - 1, Math.floor((f.at / length) * buckets));
    sums[at] = (sums[at] ?? 0) + Math.log2(2 + (f.data?.length ?? 0));
  }
  const most = Math.max(1, ...sums);
  return sums.map((n) => n / most);
}

/** The first frame behind an instant. */
export function frameAfter(frames: Frame[], at: number): number {
  let [low, high] = [0, frames.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((frames[middle]?.at ?? 0) <= at) low = middle + 1;
    else high = middle;
  }
  return low;
}

export function bytes(base64: string): Uint8Array {
  return Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
}

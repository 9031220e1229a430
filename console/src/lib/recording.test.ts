import { describe, expect, it } from "vitest";
import type { Frame } from "../api/client";
import { activity, bytes, channels, frameAfter, parseFrames, tape } from "./recording";

const frame = (at: number, channel: number, kind: Frame["kind"], more: Partial<Frame> = {}): Frame => ({
  at,
  channel,
  kind,
  ...more,
});

const frames = [
  frame(0, 2, "opened", { text: "shell" }),
  frame(0, 2, "size", { columns: 100, rows: 28 }),
  frame(5, 3, "opened", { text: "sftp" }),
  frame(10, 2, "output", { data: btoa("hello") }),
  frame(500, 0, "mark", { text: "notice" }),
  frame(1000, 2, "output", { data: btoa("x".repeat(999)) }),
];

describe("recordings", () => {
  it("are read from lines", () => {
    const text = frames.map((f) => JSON.stringify(f)).join("\n") + "\n";
    expect(parseFrames(text)).toEqual(frames);
  });
  it("offer the channels that show something", () => {
    expect(channels(frames)).toEqual([{ channel: 2, title: "shell" }]);
  });
  it("keep the frames of a channel, the notices, and the largest size", () => {
    const t = tape(frames, 2);
    expect([t.frames.length, t.length, t.columns, t.rows]).toEqual([5, 1000, 100, 28]);
  });
  it("find the frame behind an instant", () => {
    expect([-1, 0, 10, 2000].map((at) => frameAfter(frames, at))).toEqual([0, 2, 4, 6]);
  });
  it("show where something happened", () => {
    const bars = activity(frames, 1000, 4);
    expect(bars).toHaveLength(4);
    expect(bars[1]).toBe(0);
    expect(Math.max(...bars)).toBe(1);
  });
  it("decode bytes as they are", () => {
    expect([...bytes(btoa("\u00ff\u0000"))]).toEqual([255, 0]);
  });
});

import { describe, expect, it } from "vitest";
import { ago, clock, counter, dayAndClock, duration, isoDay, longDay } from "./time";

describe("times", () => {
  const at = "2026-11-22T23:30:00Z";
  it("are told in the zone of the rules", () => {
    expect(clock(at, "Atlantic/Canary")).toBe("23:30");
    expect(clock(at, "Asia/Tokyo")).toBe("08:30");
    expect(dayAndClock(at, "Asia/Tokyo")).toBe("23 Nov, 08:30");
    expect(longDay(at, "UTC")).toBe("Sunday 22 November");
    expect(isoDay(at, "Asia/Tokyo")).toBe("2026-11-23");
  });
  it("count like the service does", () => {
    expect([46, 65, 960, 9660, 273_600, -5].map(duration)).toEqual([
      "46 s",
      "1 min 5 s",
      "16 min",
      "2 h 41 min",
      "3 d 4 h",
      "0 s",
    ]);
    expect(counter(3_991_000)).toBe("01:06:31");
  });
});

describe("how long ago", () => {
  const now = Date.parse("2026-11-23T12:00:00Z");
  it.each([
    ["2026-11-23T11:59:30Z", "just now"],
    ["2026-11-23T12:05:00Z", "just now"],
    ["2026-11-23T11:55:00Z", "5 min ago"],
    ["2026-11-23T09:00:00Z", "3 h ago"],
    ["2026-11-22T11:00:00Z", "yesterday"],
    ["2026-11-13T11:00:00Z", "10 days ago"],
  ])("%s", (at, said) => expect(ago(at, now)).toBe(said));
});

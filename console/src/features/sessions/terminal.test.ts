import { describe, expect, it } from "vitest";
import { fontSize } from "./terminal";

describe("the type of a recording", () => {
  it("lets the whole width be seen", () => {
    for (const columns of [80, 100, 132]) {
      // Cells are rounded to whole pixels, upwards at the worst.
      const cell = Math.round(fontSize(774, columns) * 0.615);
      expect(cell * columns).toBeLessThanOrEqual(774);
    }
  });
  it("is never too small to read nor larger than the page's", () => {
    expect(fontSize(774, 500)).toBe(7);
    expect(fontSize(774, 20)).toBe(14);
  });
});

import { describe, expect, it } from "vitest";
import { cellsIn, fontSize } from "./terminal";

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

describe("the room for a terminal in which one works", () => {
  it("is filled, and read at the size of the page's type", () => {
    const [columns, rows] = cellsIn(1000, 480, 14);
    expect([columns, rows]).toEqual([109, 29]);
    expect(fontSize(1000, columns)).toBeGreaterThanOrEqual(13);
  });
  it("is never too little to work in, nor without an end", () => {
    expect(cellsIn(100, 10, 14)).toEqual([40, 12]);
    expect(cellsIn(9000, 9000, 14)).toEqual([240, 80]);
  });
});

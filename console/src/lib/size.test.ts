import { expect, it } from "vitest";
import { size } from "./size";

it("is written as the service writes it", () => {
  expect([0, 999, 1000, 1234, 16 << 20, 5e12].map(size)).toEqual([
    "0 B",
    "999 B",
    "1.0 kB",
    "1.2 kB",
    "16.8 MB",
    "5.0 TB",
  ]);
});

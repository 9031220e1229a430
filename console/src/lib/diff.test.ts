import { describe, expect, it } from "vitest";
import { around, diff } from "./diff";

const kinds = (a: string, b: string) =>
  diff(a, b).map((l) => ({ same: " ", added: "+", removed: "-" })[l.kind] + l.text);

describe("differences", () => {
  it("tell what was added, removed and kept, in order", () => {
    expect(kinds("a\nb\nc\n", "a\nx\nc\nd\n")).toEqual([" a", "-b", "+x", " c", "+d"]);
    expect(kinds("", "a\n")).toEqual(["+a"]);
    expect(kinds("a\n", "")).toEqual(["-a"]);
    expect(kinds("a\nb\n", "a\nb\n")).toEqual([" a", " b"]);
  });

  it("give back both texts", () => {
    const [a, b] = ["q\nw\ne\nr\nt\ny\n", "w\ne\ne\nt\nu\ny\nq\n"];
    const lines = diff(a, b);
    const text = (kind: string) =>
      lines
        .filter((l) => l.kind !== kind)
        .map((l) => l.text + "\n")
        .join("");
    expect(text("added")).toBe(a);
    expect(text("removed")).toBe(b);
  });

  it("are shown with the lines around them alone", () => {
    const many = (middle: string) => Array.from({ length: 20 }, (_, i) => (i === 10 ? middle : `${i}`)).join("\n");
    const shown = around(diff(many("old"), many("new")), 1);
    expect(shown.map((l) => l?.text ?? null)).toEqual(["9", "old", "new", "11"]);
  });
});

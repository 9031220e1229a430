import { describe, expect, it } from "vitest";
import { builtIn, kindName } from "./kinds";

describe("names of kinds", () => {
  it("are written out, or made of the name of the detection", () => {
    expect(kindName("around-gateway")).toBe("Around the gateway");
    expect(kindName("two-places")).toBe("Two places");
    expect(kindName("")).toBe("");
    expect(new Set(builtIn.map(kindName)).size).toBe(builtIn.length);
  });
});

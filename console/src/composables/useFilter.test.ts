import { flushPromises } from "@vue/test-utils";
import { describe, expect, it } from "vitest";
import { within } from "../testing/page";
import { useFilter } from "./useFilter";

describe("what a list is narrowed to", () => {
  it("is in the address, and comes from there", async () => {
    const { it: list, router } = await within(() => useFilter("q", "state"), "/machines?q=dome&state=online&other=1");
    expect([list.filter.value, list.text.value, list.narrowed.value]).toEqual([
      { q: "dome", state: "online" },
      "dome",
      true,
    ]);
    list.narrow({ q: "mast" });
    await flushPromises();
    expect(router.currentRoute.value.query).toEqual({ q: "mast", state: "online" });
    expect(list.text.value).toBe("mast");
    // What is empty is not written.
    list.narrow({ q: "", state: "" });
    await flushPromises();
    expect([router.currentRoute.value.fullPath, list.narrowed.value]).toEqual(["/machines", false]);
  });

  it("takes the first of nothing where an address says something twice", async () => {
    const { it: list } = await within(() => useFilter("q"), "/log?q=a&q=b");
    expect(list.filter.value).toEqual({ q: "" });
  });
});

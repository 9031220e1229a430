import { mount } from "@vue/test-utils";
import { describe, expect, it } from "vitest";
import type { Strips } from "../../api/client";
import DayStrips from "./DayStrips.vue";

const begin = Date.parse("2026-11-23T00:00:00Z");
const hour = 3_600_000;
const day: Strips = {
  begin: "2026-11-23T00:00:00Z",
  end: "2026-11-24T00:00:00Z",
  zone: "UTC",
  machines: [
    {
      machine: "dome-east",
      open: [[begin, begin + 6 * hour]],
      sessions: [
        { id: "a", person: "Ines Okafor", begin: begin - hour, end: begin + 6 * hour },
        { id: "b", person: "Tomasz Brandt", begin: begin + 20 * hour },
      ],
      findings: [{ id: "f", at: begin + 12 * hour, sentence: "Somebody signed in directly." }],
    },
  ],
};

function strips(now: number) {
  const link = { props: ["to"], template: '<a :data-to="JSON.stringify(to)"><slot /></a>' };
  return mount(DayStrips, { props: { day, now }, global: { stubs: { RouterLink: link } } });
}

describe("strips of a day", () => {
  it("place sessions on the day, cut where they reach beyond it", () => {
    const [first, second] = strips(begin + 21 * hour).findAll("a[aria-label^=Session]");
    expect(first!.attributes("style")).toContain("left: 0%");
    expect(first!.attributes("style")).toContain("width: 25%");
    expect(first!.text()).toBe("Ines Okafor");
    expect(second!.attributes("aria-label")).toBe("Session of Tomasz Brandt, 20:00 to now (live)");
    expect(second!.attributes("data-live")).toBe("");
  });
  it("pair the colour of a finding with words", () => {
    const finding = strips(begin).get("a[aria-label^=Finding]");
    expect(finding.attributes("aria-label")).toBe("Finding: Somebody signed in directly.");
    expect(finding.attributes("style")).toContain("left: 50%");
  });
  it("show the hand of the clock today only", () => {
    expect(strips(begin + 12 * hour).text()).toContain("12:00");
    expect(strips(begin - 12 * hour).text()).not.toContain("12:00");
  });
});

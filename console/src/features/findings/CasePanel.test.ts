import { flushPromises, type VueWrapper } from "@vue/test-utils";
import { describe, expect, it } from "vitest";
import type { Finding } from "../../api/client";
import { eventually, show } from "../../testing/page";
import { lena, problem, serve, type Answer, type Call } from "../../testing/service";
import CasePanel from "./CasePanel.vue";

const finding = (change: object = {}) =>
  ({
    id: "f1",
    kind: "outside-hours",
    state: "open",
    owner: null,
    due: null,
    until: null,
    settled: null,
    history: [],
    ...change,
  }) as unknown as Finding;

let calls: Call[] = [];
async function panel(change: object = {}, answer: Answer = { body: finding({ state: "in-work" }) }, me: object = lena) {
  calls = serve({ "GET /me": { body: me }, "POST /findings/f1/steps": answer });
  const { page } = await show(CasePanel, { finding: finding(change), zone: "UTC" });
  return page;
}
const buttons = (page: VueWrapper) => page.findAll("button").map((b) => b.text());
const press = async (page: VueWrapper, name: string) => {
  await page
    .findAll("button")
    .find((b) => b.text() === name)!
    .trigger("click");
  await flushPromises();
};
const steps = () => calls.filter((c) => c.method === "POST").map((c) => c.body);

describe("the case of a finding", () => {
  it("says how it stands, whose it is, and until when", async () => {
    const words = async (change: object) => (await panel(change)).get("[data-testid=case]").text();
    expect(await words({})).toMatch(/nobody's\.$/);
    expect(await words({ owner: "aud", due: "2026-12-01T23:59:00Z" })).toMatch(/aud's, due .*1 Dec.*\.$/);
  });

  it.each([
    [{}, ["Acknowledge", "Work on it", "Resolve", "Accept for a while", "Give to …", "Due on …", "Comment"]],
    [{ state: "in-work" }, ["Resolve", "Accept for a while", "Give to …", "Due on …", "Comment"]],
    [{ state: "resolved", settled: { by: "aud", why: "x", at: "2026-11-24T20:00:00Z" } }, ["Open again", "Comment"]],
    // What happened in an emergency is closed by whoever looked at it, with what they found.
    [{ kind: "emergency-used" }, ["Acknowledge", "Work on it", "Give to …", "Due on …", "Comment"]],
  ])("offers what can be done next: %j", async (change, offered) => {
    expect(buttons(await panel(change))).toEqual(offered);
  });

  it("offers nothing to those who only read", async () => {
    expect(buttons(await panel({}, "never", { ...lena, may: ["read-everything"] }))).toEqual([]);
  });

  it("goes on with a word, a day or an owner, as the step wants it", async () => {
    const page = await panel();
    await press(page, "Acknowledge");
    await press(page, "Accept for a while");
    await page.get("textarea[name=why]").setValue("Until the move.");
    await page.get("input[name=day]").setValue("2026-12-24");
    await page.get("form").trigger("submit");
    await flushPromises();
    await press(page, "Give to …");
    // To oneself, where nobody has it.
    expect(page.get<HTMLInputElement>("input[name=owner]").element.value).toBe("lena");
    await page.get("input[name=owner]").setValue("aud");
    await page.get("form").trigger("submit");
    await flushPromises();
    expect(steps()).toEqual([
      { step: "acknowledge" },
      { step: "accept", why: "Until the move.", until: new Date("2026-12-24T23:59:00").toISOString() },
      { step: "assign", owner: "aud" },
    ]);
    expect(page.emitted("changed")).toHaveLength(3);
    expect(page.find("form").exists()).toBe(false);
  });

  it("stays where it was refused, and says why until something else is begun", async () => {
    const page = await panel({}, problem(422, "not-good", "At most a year."));
    await press(page, "Accept for a while");
    await page.get("textarea[name=why]").setValue("For ever.");
    await page.get("form").trigger("submit");
    await eventually(() => expect(page.text()).toContain("At most a year."));
    expect(page.get<HTMLTextAreaElement>("textarea[name=why]").element.value).toBe("For ever.");
    await press(page, "Comment");
    expect(page.text()).not.toContain("At most a year.");
    expect(page.get<HTMLTextAreaElement>("textarea[name=why]").element.value).toBe("");
    await press(page, "Comment");
    expect(page.find("form").exists()).toBe(false);
  });
});

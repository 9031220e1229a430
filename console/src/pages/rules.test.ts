import { flushPromises, type VueWrapper } from "@vue/test-utils";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { router } from "../router";
import { eventually, visit as at } from "../testing/page";
import { lena, problem, serve, type Answer, type Call } from "../testing/service";

const draft = (change: object = {}) => ({
  id: "d1",
  title: "Domes at night",
  text: "# one",
  base: 3,
  revision: 1,
  author: "tove",
  changed_by: "tove",
  agreed_by: null,
  second_person: false,
  current: true,
  ...change,
});
const read = (change: object = {}) => ({ ok: true, rules: [], diagnostics: [], hours: [], ...change });
const effect = (sentence: string) => ({
  sentence,
  changes: [],
  past: { sentence: "Nothing would have been refused.", judged: [] },
  ending: [],
  guardrails: 2,
  tests: 1,
});

let calls: Call[] = [];
type Answers = Record<string, Answer | ((path: string, body: unknown) => Answer | Promise<Answer>)>;
const rule = {
  name: "night",
  effect: "allow",
  line: 1,
  sentence: "The night shift may.",
  fields: {},
  people: 1,
  machines: 1200,
};

async function open(answers: Answers = {}) {
  calls = serve({
    "GET /me": { body: lena },
    "GET /policy": { body: { version: 3, text: "" } },
    "GET /people": { body: { items: [] } },
    "GET /machines": { body: { machines: [] } },
    "GET /drafts/d1": { body: draft() },
    "POST /policy/read": { body: read({ rules: [rule] }) },
    "POST /policy/effect": { body: effect("Nobody gains or loses anything.") },
    ...answers,
  });
  const { page, router: here } = await at(router.options.routes, "/rules/drafts/d1");
  await vi.dynamicImportSettled();
  await settled();
  return { page, here };
}
async function settled() {
  await flushPromises();
  vi.advanceTimersByTime(350);
  for (let n = 0; n < 6; n++) await flushPromises();
}
const write = async (page: VueWrapper, text: string) => {
  await page.get("textarea").setValue(text);
};
const button = (page: VueWrapper, id: string) => page.get<HTMLButtonElement>(`[data-testid=${id}]`);

describe("a draft", () => {
  beforeEach(() => void vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout"] }));
  afterEach(() => vi.useRealTimers());

  it("tells its effect before it is published, and cannot be published while that is worked out", async () => {
    const { page } = await open();
    expect(page.get("[data-testid=effect]").text()).toContain("Nobody gains or loses anything.");
    expect(button(page, "publish").element.disabled).toBe(false);
    await write(page, "# two");
    expect(button(page, "publish").element.disabled).toBe(true);
    expect(page.get("[data-testid=effect]").attributes("data-stale")).toBe("true");
    // One look for all that was typed meanwhile.
    const before = calls.length;
    for (const text of ["# thr", "# three", "# four"]) await write(page, text);
    await settled();
    const looked = calls.slice(before).filter((c) => c.path === "/policy/read");
    expect(looked.map((c) => (c.body as { text: string }).text)).toEqual(["# four"]);
    expect(button(page, "publish").element.disabled).toBe(false);
  });

  it("never shows the effect of an earlier text for a later one", async () => {
    let late!: (answer: Answer) => void;
    // Of the slow text the effect comes after that of the quick one.
    const { page } = await open({
      "POST /policy/effect": (_, body) =>
        (body as { text: string }).text === "# slow"
          ? new Promise<Answer>((done) => (late = done))
          : { body: effect("Nobody gains or loses anything.") },
    });
    await write(page, "# slow");
    await settled();
    await write(page, "# quick");
    await settled();
    late({ body: effect("Everybody gains everything.") });
    await settled();
    expect(page.get("[data-testid=effect]").text()).toContain("Nobody gains or loses anything.");
  });

  it("that cannot be read says so, and is not published", async () => {
    const { page } = await open({ "POST /policy/read": { body: read({ ok: false }) } });
    expect(page.text()).toContain("It cannot be published as it is.");
    expect(page.get("[data-testid=effect]").text()).toContain("once the text can be read");
    expect(button(page, "publish").element.disabled).toBe(true);
  });

  it("is saved against the revision that was read, and what somebody else saved is not overwritten", async () => {
    const { page } = await open({ "PUT /drafts/d1": problem(412, "conflict", "tove saved it in between.") });
    expect(button(page, "save-draft").text()).toBe("Saved");
    await write(page, "# mine");
    await button(page, "save-draft").trigger("click");
    await settled();
    expect(page.get("[role=alert]").text()).toContain("tove saved it in between.");
    expect(page.get<HTMLTextAreaElement>("textarea").element.value).toBe("# mine");
    expect(calls.find((c) => c.method === "PUT")!.body).toEqual({ title: "Domes at night", text: "# mine", base: 3 });
  });

  it("is saved before it is published, and leads to the rules", async () => {
    const { page, here } = await open({
      "PUT /drafts/d1": (_, body) => ({ body: draft({ ...(body as object), revision: 2 }) }),
      "POST /drafts/d1/publish": { body: { version: 4 } },
    });
    await write(page, "# better");
    await settled();
    await button(page, "publish").trigger("click");
    await settled();
    expect(calls.filter((c) => c.path.startsWith("/drafts/d1") && c.method !== "GET").map((c) => c.method)).toEqual([
      "PUT",
      "POST",
    ]);
    await eventually(() => expect(here.currentRoute.value.path).toBe("/rules"));
  });

  it("waits for a second person where the rules want one, who is not its author", async () => {
    const { page } = await open({
      "GET /drafts/d1": { body: draft({ second_person: true }) },
      "POST /drafts/d1/agree": { body: draft({ second_person: true, agreed_by: "lena" }) },
    });
    expect(page.text()).toContain("A second person must agree");
    expect(button(page, "publish").element.disabled).toBe(true);
    await button(page, "agree").trigger("click");
    await settled();
    expect(page.text()).toContain("lena agreed to it.");
    expect(button(page, "publish").element.disabled).toBe(false);
    // What is changed after that is another thing.
    await write(page, "# more");
    await settled();
    expect(button(page, "publish").element.disabled).toBe(true);

    const own = await open({ "GET /drafts/d1": { body: draft({ second_person: true, author: "lena" }) } });
    expect(own.page.find("[data-testid=agree]").exists()).toBe(false);
  });
});

import { flushPromises } from "@vue/test-utils";
import { describe, expect, it } from "vitest";
import type { Finding, Now } from "../../api/client";
import { eventually, show } from "../../testing/page";
import { lena, problem, serve } from "../../testing/service";
import StopPanel from "../live/StopPanel.vue";
import SuppressForm from "./SuppressForm.vue";

describe("what is to come up no more", () => {
  const finding = { kind: "outside-hours", machine: "dome-east", account: "operator", person: "ines", source: "" };

  it("is as narrow as the finding, and only what somebody takes out is wider", async () => {
    const calls = serve({ "POST /suppressions": { body: { sentence: "Kept from coming up until 1 December." } } });
    const { page } = await show(SuppressForm, { finding: finding as unknown as Finding });
    await page.get("button").trigger("click");
    // What the finding does not have cannot be the same.
    expect(page.findAll("input[type=checkbox]").map((i) => i.attributes("name"))).toEqual([
      "machine",
      "account",
      "person",
    ]);
    await page.get("input[name=account]").setValue(false);
    await page.get("input[name=until]").setValue("2026-12-01");
    await page.get("input[name=suppress-why]").setValue("A test run.");
    await page.get("form").trigger("submit");
    await flushPromises();
    expect(calls[0]!.body).toMatchObject({
      kind: "outside-hours",
      machine: "dome-east",
      person: "ines",
      why: "A test run.",
    });
    expect(Object.keys(calls[0]!.body as object)).not.toContain("account");
    expect(page.get("[role=status]").text()).toContain("Kept from coming up");
  });

  it("says why it is refused, with what was written kept", async () => {
    serve({ "POST /suppressions": problem(422, "not-good", "At most a year.") });
    const { page } = await show(SuppressForm, { finding: finding as unknown as Finding });
    await page.get("button").trigger("click");
    await page.get("input[name=until]").setValue("2036-12-01");
    await page.get("input[name=suppress-why]").setValue("For ever.");
    await page.get("form").trigger("submit");
    await eventually(() => expect(page.text()).toContain("At most a year."));
    expect(page.get<HTMLInputElement>("input[name=suppress-why]").element.value).toBe("For ever.");
  });
});

describe("the lockdown", () => {
  const dialog = () => document.querySelector("[role=dialog]");
  async function because(words: string) {
    const field = dialog()!.querySelector<HTMLInputElement>("input[name=why]")!;
    field.value = words;
    field.dispatchEvent(new Event("input"));
    await flushPromises();
    dialog()!.querySelector("form")!.dispatchEvent(new Event("submit"));
    await flushPromises();
  }

  it("begins with a reason, and the dialogue stays where it could not", async () => {
    let tries = 0;
    const calls = serve({
      "GET /me": { body: lena },
      "PUT /lockdown": () => (tries++ ? { body: {} } : problem(503, "unready", "The log cannot be written.")),
    });
    const { page } = await show(StopPanel, { now: { live: 0 } as Now });
    expect(page.text()).not.toContain("every session");
    await page.get("button").trigger("click");
    await flushPromises();
    await because("Lightning.");
    await eventually(() => expect(dialog()?.textContent).toContain("The log cannot be written."));
    await because("Lightning.");
    await eventually(() => expect(dialog()).toBeNull());
    expect(calls.filter((c) => c.method === "PUT").map((c) => c.body)).toEqual([
      { why: "Lightning." },
      { why: "Lightning." },
    ]);
  });

  it("is lifted where it holds, and not begun again", async () => {
    const calls = serve({ "POST /lockdown/lift": { body: {} } });
    const lockdown = { since: "2026-11-24T20:00:00Z", by: "lena", why: "Lightning." };
    const { page } = await show(StopPanel, { now: { live: 0, lockdown } as Now });
    expect(page.findAll("button").map((b) => b.text())).toEqual(["Open again…"]);
    await page.get("button").trigger("click");
    await flushPromises();
    await because("It is over.");
    await eventually(() => expect(calls.at(-1)).toMatchObject({ method: "POST", body: { why: "It is over." } }));
  });
});

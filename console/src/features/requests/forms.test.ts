import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { AccessRequest } from "../../api/client";
import { eventually, show } from "../../testing/page";
import { problem, serve } from "../../testing/service";
import AnswerForm from "./AnswerForm.vue";
import AskForm from "./AskForm.vue";

const NOW = new Date("2026-11-24T20:00:00Z");
const request = (change: Partial<AccessRequest> = {}) =>
  ({
    id: "r1",
    capabilities: ["shell", "upload"],
    from: "2026-11-24T19:00:00Z",
    until: "2026-11-25T01:00:00Z",
    ...change,
  }) as AccessRequest;

beforeEach(() => void vi.useFakeTimers({ toFake: ["Date"], now: NOW }));
afterEach(() => vi.useRealTimers());

describe("an answer to a request", () => {
  const posted = (calls: { method: string; body: unknown }[]) =>
    calls.filter((c) => c.method === "POST").map((c) => c.body);

  it("is a yes to all of it, unless somebody takes something out", async () => {
    const calls = serve({ "POST /requests/r1/answer": { body: {} } });
    const { page } = await show(AnswerForm, { request: request() });
    // Five hours are left: what is longer is not offered.
    expect(page.findAll("option").map((o) => o.text())).toEqual([
      "as long as asked",
      "30 minutes",
      "1 hour",
      "2 hours",
      "4 hours",
    ]);
    await page.get("form").trigger("submit");
    await flushPromises();
    await page.get("select").setValue("2");
    await page.get("input[value=upload]").setValue(false);
    await page.get("input[name=why]").setValue("Only the shell.");
    await page.get("form").trigger("submit");
    await flushPromises();
    expect(posted(calls)).toEqual([
      { yes: true, why: "" },
      { yes: true, why: "Only the shell.", until: "2026-11-24T22:00:00.000Z", capabilities: ["shell"] },
    ]);
    await page.get("input[value=shell]").setValue(false);
    expect(page.get("button[data-kind=main]").attributes("disabled")).toBeDefined();
  });

  it("says where a port leads that is to be forwarded", async () => {
    const capabilities = ["shell", "forward"];
    const named = await show(AnswerForm, { request: request({ capabilities, target: "localhost:8080" }) });
    expect(named.page.get("fieldset").text()).toContain("forward to localhost:8080");
    const any = await show(AnswerForm, { request: request({ capabilities }) });
    expect(any.page.get("fieldset").text()).toContain("forward to any port that the rules allow");
  });

  it("is a no with a reason alone, of nothing less", async () => {
    const calls = serve({ "POST /requests/r1/answer": problem(409, "conflict", "Somebody else answered.") });
    const { page } = await show(AnswerForm, { request: request() });
    const no = page.get("button[type=button]");
    expect(no.attributes("disabled")).toBeDefined();
    await page.get("input[value=upload]").setValue(false);
    await page.get("input[name=why]").setValue("  ");
    expect(no.attributes("disabled")).toBeDefined();
    await page.get("input[name=why]").setValue("Wait for the night.");
    await no.trigger("click");
    await eventually(() => expect(page.text()).toContain("Somebody else answered."));
    expect(posted(calls)).toEqual([{ yes: false, why: "Wait for the night." }]);
  });

  it("counts from when it begins, where that is later", async () => {
    const calls = serve({ "POST /requests/r1/answer": { body: {} } });
    const { page } = await show(AnswerForm, { request: request({ from: "2026-11-24T23:00:00Z" }) });
    expect(page.findAll("option").map((o) => o.attributes("value"))).toEqual(["", "0.5", "1"]);
    await page.get("select").setValue("1");
    await page.get("form").trigger("submit");
    await flushPromises();
    expect(posted(calls)).toEqual([{ yes: true, why: "", until: "2026-11-25T00:00:00.000Z" }]);
  });
});

describe("a request", () => {
  it("names machines and capabilities in any way people write lists", async () => {
    const calls = serve({ "POST /requests": { body: { approvers: ["tove", "aud"] } } });
    const { page } = await show(AskForm);
    await page.get("input[name=machines]").setValue("spectro-1, group:ridge  pier");
    await page.get("input[name=capabilities]").setValue("shell,upload");
    await page.get("select").setValue("24");
    await page.get("input[name=reason]").setValue("A grating slipped.");
    await page.get("form").trigger("submit");
    await flushPromises();
    expect(calls[0]!.body).toEqual({
      machines: ["spectro-1", "group:ridge", "pier"],
      capabilities: ["shell", "upload"],
      until: "2026-11-25T20:00:00.000Z",
      reason: "A grating slipped.",
      ticket: "",
    });
    expect(page.get("[role=status]").text()).toBe("It waits for tove or aud.");
    // The next begins empty, but for what it is for.
    expect(page.get<HTMLInputElement>("input[name=reason]").element.value).toBe("");
    expect(page.get<HTMLInputElement>("input[name=capabilities]").element.value).toBe("shell,upload");
  });

  it("names the port where one is to be forwarded, and only then", async () => {
    const calls = serve({ "POST /requests": { body: { approvers: ["tove"] } } });
    const { page } = await show(AskForm);
    expect(page.find("input[name=target]").exists()).toBe(false);
    await page.get("input[name=machines]").setValue("spectro-1");
    await page.get("input[name=capabilities]").setValue("forward");
    await page.get("input[name=target]").setValue("localhost:8080");
    await page.get("form").trigger("submit");
    await flushPromises();
    expect(calls[0]!.body).toMatchObject({ capabilities: ["forward"], target: "localhost:8080" });
    await page.get("input[name=target]").setValue("localhost:8080");
    await page.get("input[name=capabilities]").setValue("shell");
    await page.get("form").trigger("submit");
    await flushPromises();
    expect(calls[1]!.body).not.toHaveProperty("target");
  });

  it("stays as it was written where the service refuses it", async () => {
    serve({ "POST /requests": problem(422, "not-good", "There is no machine spectr-1.") });
    const { page } = await show(AskForm);
    await page.get("input[name=machines]").setValue("spectr-1");
    await page.get("form").trigger("submit");
    await eventually(() => expect(page.text()).toContain("There is no machine spectr-1."));
    expect(page.get<HTMLInputElement>("input[name=machines]").element.value).toBe("spectr-1");
  });
});

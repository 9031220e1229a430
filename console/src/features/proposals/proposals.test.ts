import { flushPromises } from "@vue/test-utils";
import { describe, expect, it } from "vitest";
import type { Invitation, Proposal } from "../../api/client";
import { show } from "../../testing/page";
import { lena, problem, serve } from "../../testing/service";
import InvitationLink from "./InvitationLink.vue";
import ProposalList from "./ProposalList.vue";

const proposal = (change: Partial<Proposal> = {}): Proposal => ({
  id: "p1",
  kind: "invitation",
  subject: "sunniva",
  sentence: "Ola wants to invite sunniva anew.",
  by: "ola",
  at: "2026-11-24T19:00:00Z",
  expires: "2026-11-26T19:00:00Z",
  ...change,
});
const invitation = (change: Partial<Invitation> = {}): Invitation => ({
  person: "sunniva",
  link: "https://aerie.example/welcome#x",
  expires: "2026-11-26T19:00:00Z",
  ...change,
});

describe("what waits for a second administrator", () => {
  it("is agreed to by somebody else, who is given the link", async () => {
    const calls = serve({
      "GET /me": { body: lena },
      "GET /proposals": { body: [proposal()] },
      "POST /proposals/p1/agree": { body: { proposal: proposal(), link: invitation() } },
    });
    const { page } = await show(ProposalList);
    await flushPromises();
    expect(page.text()).toContain("1 proposal waits for a second administrator");
    await page.get("[data-testid=agree]").trigger("click");
    await flushPromises();
    expect(calls.filter((c) => c.method === "POST").map((c) => c.path)).toEqual(["/proposals/p1/agree"]);
    expect(page.get("[data-testid=invitation]").text()).toBe("https://aerie.example/welcome#x");
  });

  it("is not agreed to by who proposed it, and says why something was refused", async () => {
    serve({
      "GET /me": { body: lena },
      "GET /proposals": { body: [proposal({ by: "lena" })] },
      "DELETE /proposals/p1": problem(404, "not-found", "There is no such proposal, or it was decided."),
    });
    const { page } = await show(ProposalList);
    await flushPromises();
    expect(page.find("[data-testid=agree]").exists()).toBe(false);
    expect(page.text()).toContain("Another administrator must agree.");
    await page.get("[data-testid=discard]").trigger("click");
    await flushPromises();
    expect(page.get("[role=alert]").text()).toContain("it was decided");
  });

  it("is nothing to a technician", async () => {
    const calls = serve({ "GET /me": { body: { ...lena, may: [] } }, "GET /proposals": { body: [proposal()] } });
    const { page } = await show(ProposalList);
    await flushPromises();
    expect(page.text()).toBe("");
    expect(calls.map((c) => c.path)).not.toContain("/proposals");
  });
});

describe("an invitation", () => {
  it("says whether there is a link to hand over, a mail, or somebody who must agree", async () => {
    const said = async (change: Partial<Invitation>) =>
      (await show(InvitationLink, { invitation: invitation(change) })).page.text();
    expect(await said({})).toContain("Hand this link to sunniva");
    const mailed = await said({ link: "", mailed: true });
    expect(mailed).toContain("was mailed to sunniva");
    expect(mailed).not.toContain("Hand this");
    expect(await said({ link: "", proposal: proposal() })).toContain("A second administrator must agree");
  });
});

import { flushPromises } from "@vue/test-utils";
import { describe, expect, it } from "vitest";
import { router } from "../router";
import { eventually, visit as at } from "../testing/page";
import { lena, serve } from "../testing/service";

const backlog = {
  recordings: 0,
  agents_online: 3,
  agents_offline: 1,
  relays_online: 1,
  notices: 0,
  notices_failing: 0,
  forwarding: null,
  forwarding_failure: null,
};
const now = (change: object = {}) => ({
  live: 0,
  waiting: [],
  yours: 0,
  findings: 0,
  findings_new: 0,
  zone: "UTC",
  lockdown: null,
  reviews: [],
  visits: [],
  backlog,
  ...change,
});

async function open(change: object) {
  serve(
    {
      "GET /me": { body: lena },
      "GET /now": { body: now(change) },
      "GET /sessions": { body: { items: [] } },
      "GET /findings": { body: { items: [] } },
    },
    "never",
  );
  const { page } = await at(router.options.routes, "/");
  await eventually(async () => {
    await flushPromises();
    expect(page.find("[data-testid=sentence]").exists()).toBe(true);
  });
  const sentence = page.get("[data-testid=sentence]").text().replace(/\s+/g, " ").replace(/ ,/g, ",");
  return { page, sentence };
}
const wait = {
  id: "w1",
  sentence: "Piet waits for tove.",
  since: "2026-11-24T20:00:00Z",
  until: "2026-11-24T20:10:00Z",
};

describe("the first sentence of the console", () => {
  it.each([
    [{}, "Nobody is connected, and there are no findings."],
    [{ live: 1, findings: 4 }, "1 session is live, and none of the 4 findings is new since yesterday."],
    [
      { live: 3, yours: 1, findings_new: 2, findings: 9 },
      "3 sessions are live, 1 request waits for your answer, and 2 findings are new since yesterday.",
    ],
    [
      { waiting: [wait], yours: 2, findings_new: 1 },
      "Nobody is connected, 1 waits to begin, 2 requests wait for your answer, and 1 finding is new since yesterday.",
    ],
  ])("says of %j: %s", async (change, text) => {
    expect((await open(change)).sentence).toBe(text);
  });

  it("leads to what it names", async () => {
    const { page } = await open({ live: 2, yours: 1, findings_new: 3 });
    const links = page
      .get("[data-testid=sentence]")
      .findAll("a")
      .map((a) => a.attributes("href"));
    expect(links).toEqual(["/sessions?state=live", "/requests", "/findings"]);
  });

  it("is followed by what the service has yet to do, and by a lockdown that nobody overlooks", async () => {
    const lockdown = { since: "2026-11-24T20:00:00Z", by: "lena", why: "Lightning" };
    const behind = {
      ...backlog,
      recordings: 1,
      notices: 2,
      notices_failing: 1,
      forwarding: 7,
      forwarding_failure: "nobody listens",
    };
    const { page } = await open({ lockdown, backlog: behind });
    expect(page.get("[data-testid=lockdown]").attributes("role")).toBe("alert");
    expect(page.get("[data-testid=lockdown]").text()).toContain("since 20:00 by lena: Lightning.");
    const text = page.get("[data-testid=backlog]").text().replace(/\s+/g, " ");
    expect(text).toContain(
      "1 recording runs, 3 of 4 agents are online (1 relay), 2 notices wait, 1 could not be delivered yet",
    );
    expect(text).toContain("7 events wait to be forwarded (nobody listens).");
  });
});

import { flushPromises, type VueWrapper } from "@vue/test-utils";
import { beforeEach, describe, expect, it, vi } from "vitest";
import { router } from "../router";
import { eventually, visit as at } from "../testing/page";
import { lena, problem, serve, type Answer, type Call } from "../testing/service";
import { FakeSocket } from "../testing/socket";

const mira = { ...lena, person: "mira", full_name: "Mira Castellane", may: ["issue-pins"], roles: ["technician"] };
const visit = (change: object = {}) => ({
  id: "v1",
  sentence: "mira helps Rhea Calder.",
  person: "Rhea Calder",
  queue: "workstations",
  state: "active",
  technician: "mira",
  reason: "Stripes",
  ticket: "OBS-2101",
  mail: "",
  made: "2026-11-24T20:00:00Z",
  arrived: "2026-11-24T20:01:00Z",
  agreed: ["view"],
  shares: true,
  program: false,
  device: {},
  sessions: [],
  pictures: [],
  files: [],
  remarks: [],
  ...change,
});
const queue = {
  name: "workstations",
  note: "Help with workstations",
  waiting: 0,
  helpers: ["mira"],
  link: "https://a/help/w",
};

let calls: Call[] = [];
function answers(all: Record<string, Answer>) {
  calls = serve({ "GET /me": { body: mira }, "GET /queues": { body: [queue] }, ...all });
}
const posted = () => calls.filter((c) => c.method === "POST").map((c) => [c.path, c.body]);
const press = async (page: VueWrapper, name: string) => {
  await page
    .findAll("button")
    .find((b) => b.text() === name)!
    .trigger("click");
  await flushPromises();
};
beforeEach(() => FakeSocket.install());

describe("the list of visits", () => {
  it("says in its first line how many wait, are helped, and are to be closed", async () => {
    const all = [
      visit(),
      visit({ id: "v2", state: "waiting", technician: null, person: "" }),
      visit({ id: "v3", state: "waiting", technician: null }),
      visit({ id: "v4", state: "waiting", arrived: null }),
      visit({ id: "v5", state: "ended" }),
    ];
    answers({ "GET /visits": { body: all } });
    const { page } = await at(router.options.routes, "/visits");
    await flushPromises();
    expect(page.get("h1").text()).toBe("1 is expected with a PIN, 2 wait, 1 is helped, 1 is not closed yet.");
    const rows = page.findAll("[data-testid=visit]");
    expect(rows.map((r) => r.findAll("button").length)).toEqual([0, 1, 1, 0, 0]);
    expect(rows[1]!.text()).toContain("Somebody");
  });

  it("looks at those that are closed where somebody wants them, and says when nobody waits", async () => {
    answers({ "GET /visits": { body: [] } });
    const { page } = await at(router.options.routes, "/visits");
    await flushPromises();
    expect(page.get("h1").text()).toBe("Nobody waits for help.");
    await page.get("input[type=checkbox]").setValue(true);
    await eventually(() =>
      expect(calls.filter((c) => c.path === "/visits").map((c) => c.query.open)).toEqual(["true", "false"]),
    );
  });

  it("makes one, and shows its PIN in groups, for reading out", async () => {
    const made = { pin: "12345678", link: "https://aerie.example/visit/v9", visit: visit({ id: "v9" }) };
    answers({ "GET /visits": { body: [] }, "POST /visits": { body: made } });
    const { page } = await at(router.options.routes, "/visits");
    await flushPromises();
    await press(page, "New visit");
    await page.get("input[name=person]").setValue("Rhea Calder");
    expect(page.get<HTMLInputElement>("form input[type=checkbox]").element.disabled).toBe(true);
    await page.get("input[name=mail]").setValue("rhea@corvid.example");
    await page.get("form input[type=checkbox]").setValue(true);
    await page.get("form").trigger("submit");
    await flushPromises();
    expect(posted()).toEqual([
      [
        "/visits",
        { queue: "", person: "Rhea Calder", mail: "rhea@corvid.example", reason: "", ticket: "", send_link: true },
      ],
    ]);
    expect(page.get("[data-testid=new-pin]").text()).toBe("1234 5678");
    expect(page.get("[data-testid=to-visit]").attributes("href")).toBe("/visits/v9");
  });
});

describe("a visit", () => {
  const open = async (change: object, more: Record<string, Answer> = {}) => {
    answers({ "GET /visits/v1": { body: visit(change) }, ...more });
    const { page } = await at(router.options.routes, "/visits/v1");
    await flushPromises();
    return page;
  };

  it.each([
    [{ arrived: null, agreed: null }, "did not enter the PIN yet"],
    [{ agreed: null }, "is asked whether you may see their screen"],
    [{ shares: false }, "agreed and chooses what to share"],
    [{}, "shares their screen"],
    [{ device: { machine: "coude-1" } }, "is at coude-1. What you do there is asked on that computer."],
  ])("says what it waits for: %j", async (change, text) => {
    const page = await open(change);
    expect(page.get("section[aria-label=Screen]").text()).toContain(text);
  });

  it("shows what is known of the computer, and from whom", async () => {
    const told = await open({ device: { system: "Windows", browser: "Firefox 140", disorder: "updates are pending" } });
    expect(told.text()).toContain("this is what its browser says");
    expect(told.text()).toContain("updates are pending");
    const managed = await open({ device: { machine: "coude-1", host: "coude-1" } });
    expect(managed.text()).toContain("A managed machine: its agent says so.");
  });

  it("is picked up by somebody else, and closed by whoever helps alone", async () => {
    const others = await open(
      { technician: "nils" },
      { "POST /visits/v1/pick-up": problem(409, "conflict", "nils has begun.") },
    );
    expect(others.find("[data-testid=close-visit]").exists()).toBe(false);
    expect(others.find("input[name=note]").exists()).toBe(false);
    await press(others, "Pick up");
    await eventually(() => expect(others.text()).toContain("nils has begun."));

    const mine = await open(
      { state: "ended", ended: "2026-11-24T20:30:00Z" },
      { "POST /visits/v1/close": { body: visit() } },
    );
    expect(mine.text()).toContain("Rhea Calder left. Say how it went.");
    expect(mine.find("[data-testid=look]").exists()).toBe(false);
    await mine.get("select[name=outcome]").setValue("unsolved");
    await mine.get("textarea[name=closing]").setValue("The cable is broken.");
    await mine.get("textarea[name=closing]").element.closest("form")!.dispatchEvent(new Event("submit"));
    await flushPromises();
    expect(posted()).toEqual([["/visits/v1/close", { outcome: "unsolved", notes: "The cable is broken." }]]);

    const closed = await open({ closed: "2026-11-24T20:40:00Z", outcome: "solved", notes: "Driver mended." });
    expect(closed.get("section[aria-label=Closed]").text()).toContain("solved");
    expect(closed.find("[data-testid=close-visit]").exists()).toBe(false);
  });

  it("keeps a note that could not be kept, and says why", async () => {
    const page = await open({}, { "POST /visits/v1/notes": problem(503, "unready", "The disk is full.") });
    await page.get("input[name=note]").setValue("Looked at the driver.");
    page.get("input[name=note]").element.closest("form")!.dispatchEvent(new Event("submit"));
    await eventually(() => expect(page.text()).toContain("The disk is full."));
    expect(page.get<HTMLInputElement>("input[name=note]").element.value).toBe("Looked at the driver.");
  });

  it("asks for a shell where the program runs, and tells the terminal how much room it has", async () => {
    expect((await open({ program: false })).find("[data-testid=ask-shell]").exists()).toBe(false);
    const page = await open(
      { program: true },
      { "POST /visits/v1/shell": problem(403, "not-allowed", "The person did not agree.") },
    );
    await vi.dynamicImportSettled();
    await flushPromises();
    await page.get("[data-testid=ask-shell]").trigger("click");
    await eventually(() => expect(page.text()).toContain("The person did not agree."));
  });

  it("shows what was said as text, and whoever said it", async () => {
    const remark = (kind: string, who: string, text: string) => ({ at: "2026-11-24T20:05:00Z", kind, who, text });
    const page = await open({
      remarks: [
        remark("chat", "", "<img src=x>"),
        remark("note", "mira", "driver 5"),
        remark("consent", "", "allowed mira: view"),
      ],
    });
    const lines = page.findAll("[data-testid=remarks] li").map((l) => l.findAll("span")[1]!.text());
    expect(lines).toEqual(["Rhea Calder: <img src=x>", "mira noted: driver 5", "Rhea Calder allowed mira: view"]);
  });
});

import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { eventually, show } from "../../testing/page";
import { serve } from "../../testing/service";
import { FakeSocket } from "../../testing/socket";
import type { Standing } from "./useVisited";
import VisitedRoom from "./VisitedRoom.vue";

const pass = { visit: "v1", token: "a secret", queue: "workstations" };
const none: Standing = {
  state: "waiting",
  kind: "standing",
  helper: "Mira Castellane",
  organisation: "Corvid Ridge Observatory",
  reason: "Stripes",
  asks: ["view"],
  agreed: null,
  recorded: true,
  watched: false,
  program: "none",
  wants: null,
  uses: [],
  files: [],
  takes_files: false,
  before: 0,
  since: null,
};
const standing = (change: Partial<Standing> = {}) =>
  ({ ...none, question: 3, wants_question: 5, ...change }) as Standing;

describe("the page of whoever is helped", () => {
  beforeEach(() => {
    vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout"] });
    FakeSocket.install();
  });
  afterEach(() => vi.useRealTimers());

  async function room(first?: Standing) {
    const { page } = await show(VisitedRoom, { pass });
    const socket = FakeSocket.last.opens();
    if (first) socket.says(first);
    await page.vm.$nextTick();
    const says = async (what: unknown) => {
      FakeSocket.last.says(what);
      await page.vm.$nextTick();
    };
    return { page, socket, says, heading: () => page.get("[data-testid=visited-heading]").text() };
  }

  it("shows who it is by their token, which is in no address", async () => {
    const { socket } = await room();
    expect(socket.url.endsWith("/api/v1/visits/v1/page")).toBe(true);
    expect(socket.sent[0]).toMatchObject({ begin: { token: "a secret" } });
  });

  it("says how things stand in its first line, at each stage", async () => {
    const { says, heading } = await room();
    expect(heading()).toBe("One moment …");
    const stages: [Partial<Standing>, string][] = [
      [{ helper: "", before: 2 }, "2 wait before you"],
      [{ helper: "" }, "You are next"],
      [{}, "Mira Castellane would like to help you"],
      [{ agreed: ["view"] }, "Share your screen with Mira Castellane"],
      [{ agreed: ["view"], program: "runs" }, "Your screen is shared"],
      [{ agreed: ["view"], program: "runs", watched: true }, "Mira Castellane sees your screen"],
      [
        { agreed: ["view"], program: "runs", watched: true, uses: ["control"] },
        "Mira Castellane controls your computer",
      ],
    ];
    for (const [change, first] of stages) {
      await says(standing(change));
      expect(heading()).toBe(first);
    }
    await says({ kind: "over", text: "Mira Castellane closed the visit." });
    expect(heading()).toBe("The visit is over");
  });

  it("asks before anything is seen, and says whether it is recorded", async () => {
    const { page, socket, says } = await room(standing());
    expect(page.text()).toContain("What they see is recorded.");
    expect(page.find("[data-testid=share]").exists()).toBe(false);
    await page.get("[data-testid=refuse]").trigger("click");
    expect(socket.sent.at(-1)).toEqual({ answer: { question: 3, allow: [] } });
    await page.get("[data-testid=allow]").trigger("click");
    expect(socket.sent.at(-1)).toEqual({ answer: { question: 3, allow: ["view"] } });
    await says(standing({ recorded: false }));
    expect(page.text()).toContain("What they see is not recorded.");
    await says(standing({ agreed: [] }));
    expect(page.find("[data-testid=share]").exists()).toBe(false);
  });

  it.each([
    ["control", "use your keyboard and mouse"],
    ["shell", "work in a shell on this computer"],
    ["clipboard-in", "put text into your clipboard"],
    ["clipboard-out", "read what you copy"],
  ])("asks about %s by itself, and lets it be taken back", async (capability, words) => {
    const { page, socket, says } = await room(standing({ agreed: ["view"], program: "runs", wants: capability }));
    expect(page.get("[role=alertdialog]").text()).toContain(words);
    await page.get(`[data-testid=refuse-${capability}]`).trigger("click");
    expect(socket.sent.at(-1)).toEqual({ consent: { question: 5, capability, allow: false } });
    await page.get(`[data-testid=allow-${capability}]`).trigger("click");
    expect(socket.sent.at(-1)).toEqual({ consent: { question: 5, capability, allow: true } });
    await says(standing({ agreed: ["view"], program: "runs", uses: [capability] }));
    expect(page.find("[role=alertdialog]").exists()).toBe(false);
    await page.get("[data-testid^=take-back]").trigger("click");
    expect(socket.sent.at(-1)).toEqual({ consent: { question: 5, capability, allow: false } });
  });

  it("has no words for what it does not know, and so asks for none of it", async () => {
    const { page } = await room(standing({ agreed: ["view"], program: "runs", wants: "forward", uses: ["exec"] }));
    expect(page.find("[role=alertdialog]").exists()).toBe(false);
    expect(page.find("[data-testid^=take-back]").exists()).toBe(false);
  });

  it("talks both ways, and shows what is said as text", async () => {
    const { page, socket, says } = await room(standing({ agreed: ["view"] }));
    await page.get("input[name=words]").setValue("  it is the third screen ");
    await page.get("form").trigger("submit");
    expect(socket.sent.at(-1)).toEqual({ say: "it is the third screen" });
    const before = socket.sent.length;
    await page.get("form").trigger("submit");
    expect(socket.sent.length).toBe(before);
    await says({ kind: "said", who: "Mira Castellane", text: "<b>thanks</b>" });
    await says({ kind: "said", who: "", text: "sure" });
    expect(page.get("[data-testid=visited-said]").text()).toBe("Mira Castellane <b>thanks</b>You sure");
  });

  it("comes back after a break, and not after the end", async () => {
    const { page, says } = await room(standing({ agreed: ["view"] }));
    FakeSocket.last.breaks();
    await page.vm.$nextTick();
    expect(page.text()).toContain("The connection broke off");
    vi.advanceTimersByTime(1500);
    expect(FakeSocket.all).toHaveLength(2);
    FakeSocket.last.opens();
    expect(FakeSocket.last.sent[0]).toMatchObject({ begin: { token: "a secret" } });
    await says(standing({ agreed: ["view"] }));
    expect(page.text()).not.toContain("broke off");
    await says({ kind: "over", text: "The visit is over." });
    FakeSocket.last.breaks();
    vi.advanceTimersByTime(60_000);
    expect(FakeSocket.all).toHaveLength(2);
  });

  it("takes and refuses files, and gives them, with what went wrong in words", async () => {
    const file = { id: "f1", name: "mend.sh", bytes: 10, way: "to-person" as const, state: "offered", sha256: "ab" };
    const calls = serve(
      {
        "GET /visits/v1/page/files/f1": {
          status: 404,
          body: { title: "Not there", detail: "There is no such file any more." },
        },
      },
      { status: 204 },
    );
    const { page, socket } = await room(
      standing({ agreed: ["view"], takes_files: true, files: [file] as Standing["files"] }),
    );
    await page.get("[data-testid=refuse-file]").trigger("click");
    expect(socket.sent.at(-1)).toEqual({ "refuse-file": "f1" });
    await page.get("[data-testid=take-file]").trigger("click");
    await eventually(() => expect(page.text()).toContain("There is no such file any more."));
    const input = page.get<HTMLInputElement>("input[name=give]");
    const choose = async (chosen: File) => {
      Object.defineProperty(input.element, "files", { value: [chosen], configurable: true });
      await input.trigger("change");
    };
    await choose(new File(["it broke"], "error log.txt"));
    await eventually(() =>
      expect(calls.at(-1)).toMatchObject({
        method: "POST",
        path: "/visits/v1/page/files",
        query: { name: "error log.txt" },
      }),
    );
    await eventually(() => expect(input.attributes("disabled")).toBeUndefined());
    const large = new File(["x"], "large.bin");
    Object.defineProperty(large, "size", { value: (16 << 20) + 1 });
    const before = calls.length;
    await choose(large);
    await eventually(() => expect(page.text()).toContain("A file has at most 16 MiB."));
    expect(calls.length).toBe(before);
  });
});

import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { eventually, within } from "../../testing/page";
import { FakeSocket } from "../../testing/socket";
import { useDesktop, type DesktopTarget } from "./useDesktop";

const began = { kind: "began", session: "s1", machine: "dome-east", account: "operator", own: true };

/** A message of a desktop as the service packs it: the number of the update, whether it is in raw deflate (RFC 1951), and the bytes. */
async function packed(number: number, bytes: number[], deflate: boolean) {
  const stream = new Blob([new Uint8Array(bytes)]).stream().pipeThrough(new CompressionStream("deflate-raw"));
  const content = deflate ? new Uint8Array(await new Response(stream).arrayBuffer()) : new Uint8Array(bytes);
  const all = new Uint8Array(9 + content.length);
  const view = new DataView(all.buffer);
  view.setBigUint64(0, BigInt(number));
  view.setUint8(8, deflate ? 1 : 0);
  all.set(content, 9);
  return all.buffer;
}

describe("the dialogue about a desktop", () => {
  beforeEach(() => {
    vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout", "setInterval", "clearInterval", "performance"] });
    FakeSocket.install();
  });
  afterEach(() => vi.useRealTimers());

  async function link(target: DesktopTarget = { machine: "dome east", way: "x" }) {
    const { it, page } = await within(() => useDesktop(target));
    return { it, page };
  }

  it.each([
    [{ machine: "dome east" }, "/machines/dome%20east/desktop", { begin: { reason: "stripes", ticket: "OBS-1" } }],
    [
      { machine: "pier", way: "a/b" },
      "/machines/pier/desktop?way=a%2Fb",
      { begin: { reason: "stripes", ticket: "OBS-1" } },
    ],
    [{ visit: "v1" }, "/visits/v1/screen", { begin: { reason: "stripes", ticket: "OBS-1" } }],
    [{ session: "s1" }, "/sessions/s1/desktop", undefined],
  ])("begins %j where it is", async (target, path, first) => {
    const { it } = await link(target);
    it.begin("stripes", "OBS-1");
    expect(FakeSocket.last.opens().url.endsWith(`/api/v1${path}`)).toBe(true);
    expect(FakeSocket.last.sent[0]).toEqual(first);
  });

  it("tells the steps, then that it is live, and what it may be used for", async () => {
    const { it } = await link();
    it.begin();
    const socket = FakeSocket.last.opens();
    socket.says({ kind: "step", text: "looking for a way to dome-east" });
    expect([it.phase.value, it.steps.value, it.notice.value]).toEqual([
      "begin",
      ["looking for a way to dome-east"],
      "",
    ]);
    socket.says(began);
    socket.says({
      kind: "uses",
      uses: [
        ["view", "on"],
        ["control", "ask"],
      ],
    });
    expect([it.phase.value, it.uses.view, it.uses.control]).toEqual(["live", "on", "ask"]);
    // What is asked for within it is told over the picture.
    socket.says({ kind: "step", text: "waiting for the person" });
    expect(it.notice.value).toBe("waiting for the person");
    socket.says({ kind: "refused", capability: "control", text: "They did not agree." });
    expect([it.phase.value, it.notice.value]).toEqual(["live", "They did not agree."]);
    it.dismiss();
    expect(it.notice.value).toBe("");
    socket.says({ kind: "clipboard", text: "M 31" });
    socket.says({ kind: "people", people: { guests: [], watchers: ["mira"], keyboard: null } });
    expect([it.clipboard.value, it.people.value?.watchers]).toEqual(["M 31", ["mira"]]);
  });

  it("is over with the sentence of the service, and not tried again", async () => {
    for (const [said, text] of [
      [{ kind: "refused", text: "No rule lets you see it." }, "No rule lets you see it."],
      [
        { kind: "ended", text: "The session ended because the person left." },
        "The session ended because the person left.",
      ],
      [{ kind: "elsewhere" }, "Another window of yours has this session now."],
    ] as const) {
      const { it } = await link();
      it.begin();
      FakeSocket.last.opens().says(said);
      FakeSocket.last.breaks();
      expect([it.phase.value, it.over.value]).toEqual(["over", text]);
      const opened = FakeSocket.all.length;
      vi.advanceTimersByTime(60_000);
      expect(FakeSocket.all.length).toBe(opened);
    }
  });

  it("says so where the service does not answer at all", async () => {
    const { it } = await link();
    it.begin();
    FakeSocket.last.breaks();
    expect(it.phase.value).toBe("over");
    expect(it.over.value).toContain("cannot be reached");
  });

  it("comes back to the same session after a break, ever more patiently, and gives up in the end", async () => {
    const { it } = await link();
    it.begin();
    FakeSocket.last.opens().says(began);
    const waits = [500, 1000, 2000, 4000, 8000];
    for (const [n, wait] of waits.entries()) {
      FakeSocket.last.breaks();
      expect(it.phase.value).toBe("lost");
      vi.advanceTimersByTime(wait - 1);
      expect(FakeSocket.all.length).toBe(n + 1);
      vi.advanceTimersByTime(1);
      expect(FakeSocket.last.url.endsWith("/api/v1/sessions/s1/desktop")).toBe(true);
    }
    FakeSocket.last.breaks();
    expect([it.phase.value, it.over.value]).toEqual([
      "over",
      "The connection is lost, and the service cannot be reached.",
    ]);
    // One that works begins the count anew.
    it.begin();
    FakeSocket.last.opens().says(began);
    FakeSocket.last.breaks();
    vi.advanceTimersByTime(500);
    FakeSocket.last.opens().says(began);
    expect(it.phase.value).toBe("live");
  });

  it("keeps pictures until there is something to draw on, and says which were drawn", async () => {
    const { it } = await link();
    it.begin();
    const socket = FakeSocket.last.opens();
    socket.says(began);
    socket.shows(await packed(7, [1, 5, 0, 3, 32], false));
    socket.shows(await packed(8, [6, 0, 105, 0, 104, 105], true));
    await eventually(() =>
      expect(socket.sent.filter((s) => "drawn" in (s as object))).toEqual([{ drawn: 7 }, { drawn: 8 }]),
    );
    const drawn: unknown[] = [];
    it.drawWith((m) => drawn.push(m));
    expect(drawn).toEqual([{ kind: "size", width: 1280, height: 800 }]);
    expect(it.said.value).toEqual([{ kind: "said", note: false, who: "i", text: "hi" }]);
    // For what cannot be unpacked all is asked anew; what comes after it is shown.
    socket.shows(new Uint8Array([0, 0, 0, 0, 0, 0, 0, 9, 1, 255, 255, 255]).buffer);
    socket.shows(await packed(10, [1, 2, 0, 2, 0], true));
    await eventually(() => expect(drawn).toHaveLength(2));
    expect(socket.sent.slice(-2)).toEqual(["refresh", { drawn: 10 }]);
  });

  it("asks for fewer colours on a slow line, and for all of them on a quick one", async () => {
    const { it } = await link();
    it.begin();
    const socket = FakeSocket.last.opens();
    let since = 0;
    const trip = async (ms: number) => {
      // To the next ping, and so long after it.
      vi.advanceTimersByTime(1000 - since);
      vi.advanceTimersByTime((since = ms));
      socket.says({ kind: "pong", number: 1 });
      await flushPromises();
    };
    const asked = () =>
      socket.sent.flatMap((s) => ((s as { quality?: string }).quality ? [(s as { quality: string }).quality] : []));
    await trip(300);
    await trip(300);
    await trip(10);
    await trip(300);
    await trip(300);
    expect(asked()).toEqual([]);
    await trip(300);
    expect(asked()).toEqual(["few"]);
    for (let n = 0; n < 9; n++) await trip(10);
    expect(asked()).toEqual(["few"]);
    await trip(10);
    expect(asked()).toEqual(["few", "exact"]);
    // By hand it stays as it was chosen.
    it.setQuality("few");
    for (let n = 0; n < 12; n++) await trip(10);
    expect(asked()).toEqual(["few", "exact", "few"]);
  });

  it("leaves nothing behind when the page is left", async () => {
    const { it, page } = await link();
    it.begin();
    const socket = FakeSocket.last.opens();
    socket.says(began);
    page.unmount();
    expect(socket.closed).toBe(true);
    const sent = socket.sent.length;
    vi.advanceTimersByTime(60_000);
    expect([FakeSocket.all.length, socket.sent.length]).toEqual([1, sent]);
  });
});

import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { ref } from "vue";
import type { LiveLine } from "../../api/client";
import { within } from "../../testing/page";
import { useLive, type Screen } from "./useLive";

/** The stream of a service that says line after line. */
function stream() {
  let to!: ReadableStreamDefaultController<Uint8Array>;
  const body = new ReadableStream<Uint8Array>({ start: (c) => void (to = c) });
  const line = (l: Partial<LiveLine>) => to.enqueue(new TextEncoder().encode(JSON.stringify(l) + "\n"));
  return { answer: new Response(body), line, cut: () => to.error(new TypeError("network")), end: () => to.close() };
}
const data = (text: string) => btoa(text);

describe("live sessions", () => {
  const asked: string[] = [];
  let answers: (() => Response | Promise<Response>)[] = [];
  beforeEach(() => {
    vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout"] });
    asked.length = 0;
    globalThis.fetch = async (path) => {
      asked.push(String(path));
      return (answers.shift() ?? (() => Promise.reject(new TypeError("nobody answers"))))();
    };
  });
  afterEach(() => vi.useRealTimers());

  function screen() {
    const seen: string[] = [];
    const text = (b: Uint8Array) => new TextDecoder().decode(b);
    const it: Screen = {
      draw: (c, r, b) => seen.push(`draw ${c}x${r} ${text(b)}`),
      write: (b) => seen.push(`write ${text(b)}`),
      resize: (c, r) => seen.push(`size ${c}x${r}`),
    };
    return { seen, it };
  }
  const settled = async () => {
    for (let n = 0; n < 5; n++) await flushPromises();
  };

  it("come over one connection, each to its own screens, also to those that are opened later", async () => {
    const s = stream();
    answers = [() => s.answer];
    const { it: live } = await within(() => useLive(ref(["a", "b/1"])));
    expect(asked).toEqual(["/api/v1/live?sessions=a,b%2F1"]);
    s.line({ session: "a", kind: "screen", channel: 1, size: [80, 24], data: data("prompt$ ") });
    s.line({ session: "a", kind: "output", channel: 1, data: data("ls") });
    s.line({ session: "b/1", kind: "people", people: { guests: [], watchers: ["mira"], keyboard: null } });
    await settled();
    const late = screen();
    const leave = live.show("a", 1, late.it);
    expect(late.seen).toEqual(["draw 80x24 prompt$ ", "write ls"]);
    s.line({ session: "a", kind: "size", channel: 1, size: [100, 30] });
    s.line({ session: "b/1", kind: "output", channel: 1, data: data("not for a") });
    await settled();
    expect(late.seen.slice(2)).toEqual(["size 100x30"]);
    expect([live.sessions.a!.terminals, live.sessions["b/1"]!.people!.watchers]).toEqual([[1], ["mira"]]);
    leave();
    s.line({ session: "a", kind: "closed", channel: 1 });
    s.line({ session: "a", kind: "ended", sentence: "The session ended because the person left." });
    await settled();
    expect([late.seen.length, live.sessions.a!.terminals]).toEqual([3, []]);
    expect(live.sessions.a!.over).toBe("The session ended because the person left.");
  });

  it("are followed again after a break, those that are not over, and said to be as they were meanwhile", async () => {
    const [s, again] = [stream(), stream()];
    answers = [() => s.answer, () => again.answer];
    const { it: live } = await within(() => useLive(ref(["a", "b"])));
    s.line({ session: "a", kind: "screen", channel: 2, size: [80, 24], data: data("one") });
    s.line({ session: "b", kind: "ended", sentence: "It is not live." });
    await settled();
    s.cut();
    await settled();
    expect(live.lost.value).toBe(true);
    vi.advanceTimersByTime(2000);
    await settled();
    expect(asked.at(-1)).toBe("/api/v1/live?sessions=a");
    expect([live.lost.value, live.sessions.a!.terminals]).toEqual([false, []]);
    again.line({ session: "a", kind: "screen", channel: 3, size: [80, 24], data: data("two") });
    await settled();
    expect(live.sessions.a!.terminals).toEqual([3]);
    // A service that ends the stream, and one that is not there, are waited for.
    again.end();
    await settled();
    for (let n = 0; n < 3; n++) {
      expect(live.lost.value).toBe(true);
      vi.advanceTimersByTime(2000);
      await settled();
    }
    expect(asked).toHaveLength(5);
  });

  it("that the service refuses are not asked for again", async () => {
    answers = [() => new Response(JSON.stringify({ title: "No", detail: "At most 16 at a time." }), { status: 400 })];
    const { it: live } = await within(() => useLive(ref(["a"])));
    await settled();
    expect([live.sessions.a!.over, live.lost.value]).toEqual(["At most 16 at a time.", false]);
    vi.advanceTimersByTime(60_000);
    expect(asked).toHaveLength(1);
  });

  it("are followed anew when others are wanted, and no more when the page is left", async () => {
    const [one, two] = [stream(), stream()];
    answers = [() => one.answer, () => two.answer];
    const wanted = ref(["a"]);
    const { page } = await within(() => useLive(wanted));
    wanted.value = ["a", "b"];
    await settled();
    expect(asked.at(-1)).toBe("/api/v1/live?sessions=a,b");
    wanted.value = [];
    await settled();
    page.unmount();
    two.end();
    await settled();
    vi.advanceTimersByTime(60_000);
    expect(asked).toHaveLength(2);
  });

  it("keep a bounded past for screens that are opened later", async () => {
    const s = stream();
    answers = [() => s.answer];
    const { it: live } = await within(() => useLive(ref(["a"])));
    s.line({ session: "a", kind: "screen", channel: 1, size: [80, 24], data: data("first") });
    for (let n = 0; n < 40; n++) s.line({ session: "a", kind: "output", channel: 1, data: data("x".repeat(10_000)) });
    await settled();
    await settled();
    const late = screen();
    live.show("a", 1, late.it);
    expect(late.seen.length).toBeLessThan(30);
  });
});

import { useQuery } from "@tanstack/vue-query";
import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { within } from "../testing/page";
import { useUpdates } from "./useUpdates";

class FakeSource extends EventTarget {
  static all: FakeSource[] = [];
  closed = false;
  constructor(readonly url: string) {
    super();
    FakeSource.all.push(this);
  }
  close() {
    this.closed = true;
  }
  tells(kind: string) {
    this.dispatchEvent(new MessageEvent("change", { data: kind }));
  }
}

describe("what changes elsewhere", () => {
  beforeEach(() => {
    vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout", "Date"] });
    FakeSource.all = [];
    vi.stubGlobal("EventSource", FakeSource);
  });
  afterEach(() => vi.useRealTimers());

  async function page() {
    const looked: Record<string, number> = { sessions: 0, pins: 0 };
    const { page } = await within(() => {
      useUpdates();
      for (const key of ["sessions", "pins"]) {
        useQuery({ queryKey: [key, "list"], queryFn: () => Promise.resolve(++looked[key]!) });
      }
    });
    const pass = async (ms: number) => {
      vi.advanceTimersByTime(ms);
      await flushPromises();
      vi.advanceTimersByTime(0);
      await flushPromises();
    };
    await pass(0);
    return { looked, page, pass, source: () => FakeSource.all.at(-1)! };
  }

  it("is looked at again where it concerns what is shown, and nothing else is", async () => {
    const { looked, pass, source } = await page();
    expect(looked).toEqual({ sessions: 1, pins: 1 });
    source().tells("sessions");
    await pass(0);
    expect(looked).toEqual({ sessions: 2, pins: 1 });
    source().tells("vault");
    await pass(1000);
    expect(looked).toEqual({ sessions: 2, pins: 1 });
  });

  it("is looked at once a second at most, and everything where nobody knows what it concerns", async () => {
    const { looked, pass, source } = await page();
    source().tells("sessions");
    await pass(0);
    for (let n = 0; n < 20; n++) source().tells("sessions");
    await pass(999);
    expect(looked.sessions).toBe(2);
    await pass(1);
    expect(looked.sessions).toBe(3);
    source().tells("something new");
    await pass(1000);
    expect(looked).toEqual({ sessions: 4, pins: 2 });
  });

  it("is not followed by a page that was left, and everything is looked at when somebody comes back to it", async () => {
    const { looked, pass, source } = await page();
    window.dispatchEvent(new Event("pagehide"));
    expect(source().closed).toBe(true);
    window.dispatchEvent(Object.assign(new Event("pageshow"), { persisted: true }));
    await pass(0);
    expect([FakeSource.all.length, looked.sessions, looked.pins]).toEqual([2, 2, 2]);
  });

  it("is followed no longer when the page is taken down", async () => {
    const { page: shown, source } = await page();
    shown.unmount();
    expect(source().closed).toBe(true);
    window.dispatchEvent(Object.assign(new Event("pageshow"), { persisted: true }));
    expect(FakeSource.all).toHaveLength(1);
  });
});

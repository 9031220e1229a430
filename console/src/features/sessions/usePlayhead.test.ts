import { mount } from "@vue/test-utils";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { nextTick, ref } from "vue";
import { LONGEST_PAUSE } from "../../lib/recording";
import { within } from "../../testing/page";
import PlayBar from "./PlayBar.vue";
import { STEP, usePlayhead } from "./usePlayhead";

describe("where a recording is played", () => {
  beforeEach(() => void vi.useFakeTimers({ toFake: ["performance", "requestAnimationFrame", "cancelAnimationFrame"] }));
  afterEach(() => vi.useRealTimers());

  async function head(length: number, events: number[] = []) {
    const shown: number[] = [];
    const long = ref(length);
    const { it, page } = await within(() =>
      usePlayhead(
        long,
        (to) => shown.push(to),
        (after) => events.find((e) => e > after) ?? long.value,
      ),
    );
    return { it, page, shown, long, at: () => Math.round(it.at.value) };
  }
  const pass = async (ms: number) => {
    await nextTick();
    vi.advanceTimersByTime(ms);
    await nextTick();
  };
  const dense = Array.from({ length: 1000 }, (_, n) => n * 100);

  it("goes on as fast as is wanted, and stops at the end", async () => {
    const { it, at } = await head(10_000, dense);
    it.turn();
    await pass(1008);
    expect(at()).toBeGreaterThan(1900);
    expect(at()).toBeLessThanOrEqual(2016);
    it.setSpeed(16);
    await pass(1000);
    expect([at(), it.playing.value]).toEqual([10_000, false]);
    // From the end it begins anew.
    it.turn();
    await pass(32);
    expect(at()).toBeLessThan(1000);
  });

  it("leaves pauses out, or keeps them, as somebody wants it", async () => {
    const skipping = await head(3_600_000, [1000, 3_500_000]);
    skipping.it.seek(1000);
    skipping.it.turn();
    await pass(64);
    expect(skipping.at()).toBeGreaterThanOrEqual(3_500_000 - LONGEST_PAUSE);
    const whole = await head(3_600_000, [1000, 3_500_000]);
    whole.it.setSkipIdle(false);
    whole.it.seek(1000);
    whole.it.turn();
    await pass(64);
    expect(whole.at()).toBeLessThan(1200);
  });

  it("stands still while what is to be shown has not arrived", async () => {
    const { it, at } = await head(10_000, dense);
    it.turn();
    await pass(160);
    it.waiting.value = true;
    const before = at();
    await pass(2000);
    expect(at()).toBe(before);
    it.waiting.value = false;
    await pass(160);
    expect(at()).toBeGreaterThan(before);
    expect(at()).toBeLessThan(before + 1000);
  });

  it("follows a recording that grows while its end is looked at, and does not while something before it is", async () => {
    const { it, long } = await head(5000);
    it.seek(5000);
    long.value = 8000;
    await nextTick();
    expect(it.at.value).toBe(8000);
    it.seek(100);
    long.value = 9000;
    await nextTick();
    expect(it.at.value).toBe(100);
  });

  it("is moved by keys, within what there is, and leaves other keys to the page", async () => {
    const { it } = await head(12_000);
    const press = (key: string, target: Element = document.body) => {
      const event = new KeyboardEvent("keydown", { key, cancelable: true });
      Object.defineProperty(event, "target", { value: target });
      it.key(event);
      return [it.at.value, event.defaultPrevented];
    };
    expect(press("ArrowRight")).toEqual([STEP, true]);
    expect(press("End")).toEqual([12_000, true]);
    expect(press("ArrowRight")).toEqual([12_000, true]);
    expect(press("Home")).toEqual([0, true]);
    expect(press("ArrowLeft")).toEqual([0, true]);
    expect(press("x")).toEqual([0, false]);
    // A button and a list have a use of their own for these.
    expect(press(" ", document.createElement("button"))[1]).toBe(false);
    expect(press("End", document.createElement("select"))).toEqual([0, false]);
    press(" ");
    expect(it.playing.value).toBe(true);
  });

  it("is shown on a line that one points at", async () => {
    const { it } = await head(120_000);
    const bar = mount(PlayBar, {
      props: {
        head: it,
        length: 120_000,
        bars: [0, 1],
        findings: [],
        marks: [{ at: 60_000, text: "rhea allowed control" }],
      },
    });
    const slider = bar.get("[role=slider]");
    vi.spyOn(slider.element, "getBoundingClientRect").mockReturnValue(new DOMRect(100, 0, 200, 20));
    await slider.trigger("pointerdown", { clientX: 150 });
    expect(it.at.value).toBe(30_000);
    expect(slider.attributes("aria-valuetext")).toBe(bar.get("[data-testid=position]").text());
    await slider.trigger("pointermove", { clientX: 300 });
    await slider.trigger("pointerleave");
    expect(bar.emitted("hover")).toEqual([[120_000], [undefined]]);
    expect(bar.html()).toContain("rhea allowed control");
  });
});

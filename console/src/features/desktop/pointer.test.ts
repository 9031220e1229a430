import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { Pointer } from "./pointer";

describe("a pointer over a desktop", () => {
  beforeEach(
    () =>
      void vi.useFakeTimers({
        toFake: ["setTimeout", "clearTimeout", "requestAnimationFrame", "cancelAnimationFrame", "performance"],
      }),
  );
  afterEach(() => vi.useRealTimers());

  const at = (clientX: number, clientY: number, button = 0, pointerType = "mouse") => ({
    clientX,
    clientY,
    button,
    pointerType,
  });
  const finger = (x: number, y: number) => at(x, y, 0, "touch");
  function pointer() {
    const sent: [number, number, number][] = [];
    const it = new Pointer(
      ({ clientX, clientY }) => [clientX * 2, clientY * 2],
      (...all) => sent.push(all),
    );
    return { it, sent };
  }

  it("has the buttons of a mouse, several at a time", () => {
    const { it, sent } = pointer();
    it.down(at(1, 1, 0));
    it.down(at(1, 1, 2));
    it.up(at(2, 1, 0));
    it.up(at(2, 1, 2));
    it.down(at(2, 1, 1));
    it.down(at(2, 1, 7));
    expect(sent.map((s) => s[2])).toEqual([1, 5, 4, 0, 2, 2]);
    expect(sent[0]!.slice(0, 2)).toEqual([2, 2]);
  });

  it("moves once a frame, to where it was last, and a click is never before its movement", () => {
    const { it, sent } = pointer();
    for (let n = 0; n < 50; n++) it.move(at(n, 0));
    expect(sent).toEqual([]);
    vi.advanceTimersByTime(20);
    expect(sent).toEqual([[98, 0, 0]]);
    it.move(at(60, 0));
    it.down(at(61, 0));
    vi.advanceTimersByTime(20);
    expect(sent.slice(1)).toEqual([[122, 0, 1]]);
  });

  it("turns a wheel step by step, whatever a wheel's steps are", () => {
    const { it, sent } = pointer();
    const wheel = (deltaY: number, deltaMode = 0) => it.scroll({ clientX: 1, clientY: 1, deltaY, deltaMode });
    wheel(15);
    wheel(15);
    expect(sent).toEqual([]);
    wheel(15);
    expect(sent.map((s) => s[2])).toEqual([16, 0]);
    wheel(-3, 1);
    expect(sent.slice(2).map((s) => s[2])).toEqual([8, 0, 8, 0]);
  });

  it("takes a tap for a click, a finger held still for the right button, and one that moves for dragging", () => {
    const tap = pointer();
    tap.it.down(finger(5, 5));
    tap.it.up(finger(6, 5));
    vi.advanceTimersByTime(2000);
    expect(tap.sent.map((s) => s[2]).filter((b, n, all) => b || all[n - 1])).toEqual([1, 0]);

    const held = pointer();
    held.it.down(finger(5, 5));
    held.it.move(finger(7, 7));
    vi.advanceTimersByTime(600);
    held.it.up(finger(7, 7));
    expect(held.sent.filter((s) => s[2])).toEqual([[10, 10, 4]]);
    expect(held.sent.at(-1)![2]).toBe(0);

    const drag = pointer();
    drag.it.down(finger(5, 5));
    drag.it.move(finger(30, 5));
    vi.advanceTimersByTime(700);
    drag.it.up(finger(40, 5));
    expect(drag.sent).toEqual([
      [10, 10, 1],
      [60, 10, 1],
      [80, 10, 0],
    ]);
  });

  it("leaves nothing pressed behind, and tells the machine so", () => {
    const { it, sent } = pointer();
    it.down(at(3, 4));
    it.release();
    expect(sent).toEqual([
      [6, 8, 1],
      [6, 8, 0],
    ]);
    it.release();
    expect(sent).toHaveLength(2);
    // A finger that was held, and a movement on its way, are forgotten.
    it.down(finger(5, 5));
    it.move(at(9, 9));
    it.release();
    vi.advanceTimersByTime(2000);
    expect(sent).toHaveLength(2);
  });
});

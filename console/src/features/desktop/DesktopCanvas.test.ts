import { mount } from "@vue/test-utils";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { nextTick } from "vue";
import DesktopCanvas from "./DesktopCanvas.vue";

const two = [
  { x: 0, y: 0, width: 320, height: 240 },
  { x: 320, y: 0, width: 640, height: 480 },
];

describe("the picture of several screens", () => {
  beforeEach(() => {
    // Nothing is drawn here; where things lie is what is looked at.
    const nothing = new Proxy({}, { get: () => () => undefined, set: () => true });
    vi.spyOn(HTMLCanvasElement.prototype, "getContext").mockReturnValue(nothing as unknown as null);
  });
  afterEach(() => vi.restoreAllMocks());

  function shown(screen: number, mode: "fit" | "actual" = "fit") {
    const canvas = mount(DesktopCanvas, { props: { name: "dome", mode, screen, acting: true } });
    const { show } = canvas.vm as unknown as { show: (m: unknown) => void };
    show({ kind: "size", width: 960, height: 480 });
    show({ kind: "screens", screens: two });
    return { canvas, show };
  }

  it("says how many there are, and forgets them with another size", () => {
    const { canvas, show } = shown(0);
    show({ kind: "size", width: 640, height: 480 });
    expect(canvas.emitted("screens")).toEqual([[0], [2], [0]]);
  });

  it("shows one of them alone, in its own shape", async () => {
    const { canvas } = shown(2);
    await nextTick();
    const picture = canvas.get("[data-testid=desktop]");
    const style = (picture.element as HTMLElement).style;
    expect([style.left, style.top, style.width, style.height]).toEqual(["-50%", "0%", "150%", "100%"]);
    const frame = (picture.element.parentElement as HTMLElement).style;
    expect(frame.aspectRatio.replaceAll(" ", "")).toBe("640/480");
  });

  it("has the size of that one where nothing is fitted, and all where there is no such screen", async () => {
    const frame = async (screen: number) => {
      const { canvas } = shown(screen, "actual");
      await nextTick();
      const style = (canvas.get("[data-testid=desktop]").element.parentElement as HTMLElement).style;
      return [style.width, style.height];
    };
    expect(await frame(1)).toEqual(["320px", "240px"]);
    expect(await frame(7)).toEqual(["960px", "480px"]);
  });

  it("points at the same place of the machine, whichever is shown", async () => {
    const { canvas } = shown(2);
    await nextTick();
    const picture = canvas.get("[data-testid=desktop]");
    // Of the whole picture, of which the second screen is seen from 0 to 640.
    vi.spyOn(picture.element, "getBoundingClientRect").mockReturnValue(new DOMRect(-320, 0, 960, 480));
    await picture.trigger("pointerdown", { clientX: 10, clientY: 20, button: 0, pointerType: "mouse" });
    expect(canvas.emitted("at")?.at(-1)?.slice(0, 2)).toEqual([330, 20]);
  });
});

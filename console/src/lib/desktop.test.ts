import { describe, expect, it } from "vitest";
import { bitsOf, readMessage, readRecorded } from "./desktop";
import { Keyboard, keysym, keysymOf } from "./keysyms";

const bytes = (...all: number[]) => new Uint8Array(all);

describe("messages of a desktop", () => {
  it("are read as they are written", () => {
    expect(readMessage(bytes(1, 5, 0, 3, 32))).toEqual({ kind: "size", width: 1280, height: 800 });
    expect(readMessage(bytes(4, 0, 9, 1, 0, 5))).toEqual({ kind: "at", x: 9, y: 256, buttons: 5 });
    expect(readMessage(bytes(6, 1, 105, 0, 111, 107))).toEqual({ kind: "said", note: true, who: "i", text: "ok" });
    expect(readMessage(bytes(7, 105, 0, 0, 1, 0, 2))).toEqual({ kind: "line", who: "i", points: [[1, 2]] });
    expect(readMessage(bytes(8, 0, 2, 0, 1, 118, 112, 56, 0))).toEqual({
      kind: "film",
      codec: "vp8",
      width: 2,
      height: 1,
    });
    expect(readMessage(bytes(9, 1, 0, 0, 0, 0, 0, 0, 1, 0, 7))).toEqual({
      kind: "piece",
      key: true,
      time: 256,
      data: bytes(7),
    });
    expect(readMessage(bytes(10, 0, 0, 0, 0, 1, 0, 0, 240, 1, 0, 0, 0, 1, 0, 0, 240))).toEqual({
      kind: "screens",
      screens: [
        { x: 0, y: 0, width: 256, height: 240 },
        { x: 256, y: 0, width: 256, height: 240 },
      ],
    });
    expect(readMessage(bytes(200))).toBeUndefined();
  });

  it("hold parts by differences to what is expected", () => {
    // Two by two pixels: the corner as it is, its neighbours to it alone, the last to the mean of both, over the edge of a byte.
    const differences = [10, 20, 30, 246, 0, 1, 2, 250, 0, 1, 241, 0];
    const message = readMessage(bytes(2, 0, 0, 0, 0, 0, 0, 2, 0, 2, 3, ...differences));
    const part = message?.kind === "parts" ? message.parts[0]! : undefined;
    expect([...part!.pixels!]).toEqual([10, 20, 30, 255, 0, 20, 31, 255, 12, 14, 30, 255, 7, 2, 30, 255]);
  });

  it("hold parts by colours, plain, and copied", () => {
    // Three pixels of two colours, one plain pixel, and a copy.
    const two = [0, 0, 0, 0, 0, 3, 0, 1, 1, 1, 10, 20, 30, 40, 50, 60, 0b01000000];
    const plain = [0, 7, 0, 8, 0, 1, 0, 1, 2, 1, 2, 3];
    const copy = [0, 1, 0, 2, 0, 3, 0, 4, 0, 0, 5, 0, 6];
    const message = readMessage(bytes(2, 3, ...two, ...plain, ...copy));
    expect(message).toMatchObject({ kind: "parts", whole: true, more: true });
    const parts = message?.kind === "parts" ? message.parts : [];
    expect([...parts[0]!.pixels!]).toEqual([10, 20, 30, 255, 40, 50, 60, 255, 10, 20, 30, 255]);
    expect([...parts[1]!.pixels!]).toEqual([1, 2, 3, 255]);
    expect(parts[2]).toEqual({ x: 1, y: 2, width: 3, height: 4, from: [5, 6] });
    expect([1, 2, 3, 5, 16, 17, 256].map(bitsOf)).toEqual([0, 1, 2, 4, 4, 8, 8]);
  });

  it("that are cut short are refused", () => {
    expect(() => readMessage(bytes(2, 0, 0, 0, 0, 0, 0, 3, 0, 1, 2, 1))).toThrow(RangeError);
  });

  it("come with their time in a recording", () => {
    const piece = bytes(0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 1, 0, 5, 0, 0, 0, 9);
    expect(readRecorded(piece.buffer)).toEqual([{ at: 256, bytes: bytes(5) }]);
  });
});

describe("the keyboard", () => {
  const event = (key: string, code = key, more: Partial<KeyboardEvent> = {}) =>
    ({ key, code, location: 0, getModifierState: () => false, ...more }) as KeyboardEvent;

  it("means what the layout here says", () => {
    const table: [string, number | undefined][] = [
      ["a", 0x61],
      ["Ä", 0xc4],
      ["€", 0x010020ac],
      ["я", 0x0100044f],
      ["Enter", 0xff0d],
      ["F12", 0xffc9],
      ["Dead", undefined],
      ["AltGraph", undefined],
      ["CapsLock", undefined],
    ];
    for (const [key, sym] of table) expect(keysym(event(key)), key).toBe(sym);
    expect(keysym(event("Shift", "ShiftRight"))).toBe(0xffe2);
    expect(keysymOf("\u{1f52d}")).toBe(0x0101f52d);
  });

  it("lets go of what it pressed, whatever the key means by then", () => {
    const sent: string[] = [];
    const k = new Keyboard((sym, down) => sent.push(`${down ? "+" : "-"}${sym.toString(16)}`));
    k.press(event("Shift", "ShiftLeft"));
    k.press(event("A", "KeyA"));
    k.release(event("Shift", "ShiftLeft"));
    k.release(event("a", "KeyA"));
    expect(sent).toEqual(["+ffe1", "+41", "-ffe1", "-41"]);
    sent.length = 0;
    k.press(event("Control", "ControlLeft"));
    k.press(event("Alt", "AltRight"));
    k.press(event("@", "KeyQ", { getModifierState: (m: string) => m === "AltGraph" }));
    expect(sent).toEqual(["+ffe3", "+ffea", "-ffe3", "-ffea", "+40"]);
    sent.length = 0;
    k.releaseAll();
    k.combination([0xffe3, 0xffff]);
    k.type("é\n");
    expect(sent).toEqual(["-40", "+ffe3", "+ffff", "-ffff", "-ffe3", "+e9", "-e9", "+ff0d", "-ff0d"]);
  });
});

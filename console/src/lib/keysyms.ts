/** Keys as X11 keysyms (X Window System Protocol, appendix A), which is what RFB has. */

const NAMED: Record<string, number> = {
  Backspace: 0xff08,
  Tab: 0xff09,
  Enter: 0xff0d,
  Pause: 0xff13,
  ScrollLock: 0xff14,
  Escape: 0xff1b,
  Home: 0xff50,
  ArrowLeft: 0xff51,
  ArrowUp: 0xff52,
  ArrowRight: 0xff53,
  ArrowDown: 0xff54,
  PageUp: 0xff55,
  PageDown: 0xff56,
  End: 0xff57,
  PrintScreen: 0xff61,
  Insert: 0xff63,
  ContextMenu: 0xff67,
  Delete: 0xffff,
};
/** Keys of which there are a left and a right one. */
const SIDED: Record<string, [number, number]> = {
  Shift: [0xffe1, 0xffe2],
  Control: [0xffe3, 0xffe4],
  Alt: [0xffe9, 0xffea],
  Meta: [0xffeb, 0xffec],
};

/** The keysym of a character: Latin-1 as it is, all others by their number in Unicode. */
export function keysymOf(character: string): number {
  const code = character.codePointAt(0) ?? 0;
  return (code >= 0x20 && code <= 0x7e) || (code >= 0xa0 && code <= 0xff) ? code : 0x01000000 + code;
}

/** What a key on the keyboard means here, as this computer's layout has it; nothing for those that mean nothing by themselves: dead keys, AltGr,
 * locks. */
export function keysym(event: Pick<KeyboardEvent, "key" | "code" | "location">): number | undefined {
  const { key } = event;
  const sided = SIDED[key];
  if (sided) return sided[event.code.endsWith("Right") || event.location === 2 ? 1 : 0];
  if (/^F([1-9]|1[0-9]|2[0-4])$/.test(key)) return 0xffbd + Number(key.slice(1));
  if (NAMED[key] !== undefined) return NAMED[key];
  return [...key].length === 1 ? keysymOf(key) : undefined;
}

/** Combinations that a browser keeps for itself, or that a keyboard has not. */
export const COMBINATIONS: { title: string; keys: number[] }[] = [
  { title: "Ctrl + Alt + Delete", keys: [0xffe3, 0xffe9, 0xffff] },
  { title: "Ctrl + Alt + Backspace", keys: [0xffe3, 0xffe9, 0xff08] },
  { title: "Alt + Tab", keys: [0xffe9, 0xff09] },
  { title: "Alt + F4", keys: [0xffe9, 0xffc1] },
  { title: "Ctrl + Escape", keys: [0xffe3, 0xff1b] },
  { title: "Super", keys: [0xffeb] },
  { title: "Super + L", keys: [0xffeb, 0x6c] },
  { title: "Print screen", keys: [0xff61] },
  ...[1, 2, 7].map((n) => ({ title: `Ctrl + Alt + F${n}`, keys: [0xffe3, 0xffe9, 0xffbd + n] })),
];

/** Follows a keyboard: which keysyms go down and up, so that what went down comes up again, whatever the layout says then. */
export class Keyboard {
  private readonly down = new Map<string, number>();
  constructor(private readonly send: (keysym: number, down: boolean) => void) {}

  press(event: Pick<KeyboardEvent, "key" | "code" | "location" | "getModifierState">): boolean {
    const sym = keysym(event);
    if (sym === undefined) return false;
    // On some systems AltGr is Ctrl and Alt together: to the machine the character is enough.
    if ([...event.key].length === 1 && event.getModifierState("AltGraph")) this.lift([0xffe3, 0xffe4, 0xffe9, 0xffea]);
    const before = this.down.get(event.code);
    if (before !== undefined && before !== sym) this.send(before, false);
    this.down.set(event.code, sym);
    this.send(sym, true);
    return true;
  }

  release(event: Pick<KeyboardEvent, "code">): boolean {
    const sym = this.down.get(event.code);
    if (sym === undefined) return false;
    this.down.delete(event.code);
    this.send(sym, false);
    return true;
  }

  /** Text that was composed, or pasted as keys. */
  type(text: string) {
    for (const character of text) {
      const sym = character === "\n" ? 0xff0d : keysymOf(character);
      this.send(sym, true);
      this.send(sym, false);
    }
  }

  combination(keys: number[]) {
    keys.forEach((k) => this.send(k, true));
    [...keys].reverse().forEach((k) => this.send(k, false));
  }

  /** Nothing stays pressed: the window is left. */
  releaseAll() {
    this.lift([...this.down.values()]);
  }

  private lift(syms: number[]) {
    for (const [code, sym] of this.down) {
      if (!syms.includes(sym)) continue;
      this.down.delete(code);
      this.send(sym, false);
    }
  }
}

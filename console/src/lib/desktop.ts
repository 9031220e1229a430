/** Messages of a desktop, as the service writes them: docs/formats/desktop.md. Numbers have their most significant byte first. */

/** What a message says. */
export type DesktopMessage =
  | { kind: "size"; width: number; height: number }
  | { kind: "parts"; whole: boolean; more: boolean; parts: Part[] }
  | { kind: "shape"; width: number; height: number; x: number; y: number; pixels: Uint8ClampedArray<ArrayBuffer> }
  | { kind: "at"; x: number; y: number; buttons: number }
  | { kind: "bell" }
  | { kind: "said"; note: boolean; who: string; text: string }
  | { kind: "line"; who: string; points: [number, number][] }
  | { kind: "film"; codec: string; width: number; height: number }
  | { kind: "piece"; key: boolean; time: number; data: Uint8Array<ArrayBuffer> }
  | { kind: "screens"; screens: Area[] };

/** A part of the screen. */
export interface Area {
  x: number;
  y: number;
  width: number;
  height: number;
}

/** A part of the picture: pixels, or where on the screen they are copied from. */
export interface Part extends Area {
  from?: [number, number];
  /** Red, green, blue, 255 of each pixel. */
  pixels?: Uint8ClampedArray<ArrayBuffer>;
}

/** Reads from the beginning of bytes on. */
class Reader {
  private at = 0;
  private readonly view: DataView;
  constructor(private readonly bytes: Uint8Array<ArrayBuffer>) {
    this.view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  }
  get left() {
    return this.bytes.length - this.at;
  }
  u8() {
    return this.view.getUint8(this.at++);
  }
  u16() {
    this.at += 2;
    return this.view.getUint16(this.at - 2);
  }
  u64() {
    this.at += 8;
    return Number(this.view.getBigUint64(this.at - 8));
  }
  take(n: number) {
    if (n > this.left) throw new RangeError("A message of the desktop is cut short.");
    this.at += n;
    return this.bytes.subarray(this.at - n, this.at);
  }
  name() {
    const end = this.bytes.indexOf(0, this.at);
    const text = new TextDecoder().decode(this.take(Math.max(0, end - this.at)));
    this.at++;
    return text;
  }
}

/** Bits that tell so many colours apart, as they are packed. */
export function bitsOf(colours: number): number {
  if (colours <= 1) return 0;
  if (colours <= 2) return 1;
  if (colours <= 4) return 2;
  return colours <= 16 ? 4 : 8;
}

const OPAQUE = 0xff000000;

function part(r: Reader): Part {
  const [x, y, width, height] = [r.u16(), r.u16(), r.u16(), r.u16()];
  const coding = r.u8();
  if (coding === 0) return { x, y, width, height, from: [r.u16(), r.u16()] };
  // Canvas pixels are red, green, blue, opaque in memory: as numbers of this processor's order, which is little-endian.
  const out = new Uint32Array(width * height);
  if (coding === 1) {
    const count = r.u8() + 1;
    const list = r.take(count * 3);
    const colours = new Uint32Array(256);
    for (let i = 0; i < count; i++)
      colours[i] = (OPAQUE | (list[i * 3 + 2]! << 16) | (list[i * 3 + 1]! << 8) | list[i * 3]!) >>> 0;
    const bits = bitsOf(count);
    if (bits === 0) out.fill(colours[0]!);
    else {
      const across = Math.ceil((width * bits) / 8);
      const packed = r.take(across * height);
      const mask = (1 << bits) - 1;
      for (let row = 0, o = 0; row < height; row++) {
        for (let column = 0, bit = row * across * 8; column < width; column++, bit += bits)
          out[o++] = colours[(packed[bit >> 3]! >> (8 - bits - (bit & 7))) & mask]!;
      }
    }
  } else if (coding === 2) {
    const plain = r.take(width * height * 3);
    for (let i = 0, o = 0; o < out.length; i += 3, o++)
      out[o] = (OPAQUE | (plain[i + 2]! << 16) | (plain[i + 1]! << 8) | plain[i]!) >>> 0;
  } else if (coding === 3) {
    const plain = r.take(width * height * 3);
    const across = width * 3;
    // What is at `i` is written as its difference to what is expected of it: see docs/formats/desktop.md.
    const is = new Uint8Array(plain.length);
    for (let i = 0; i < plain.length; i++) {
      const left = i % across >= 3;
      const above = i >= across;
      const guess =
        left && above ? (is[i - 3]! + is[i - across]!) >> 1 : left ? is[i - 3]! : above ? is[i - across]! : 0;
      is[i] = plain[i]! + guess;
    }
    for (let i = 0, o = 0; o < out.length; i += 3, o++)
      out[o] = (OPAQUE | (is[i + 2]! << 16) | (is[i + 1]! << 8) | is[i]!) >>> 0;
  } else throw new RangeError("A part of the picture is written in a way that this page does not know.");
  return { x, y, width, height, pixels: new Uint8ClampedArray(out.buffer) };
}

/** Reads a message; nothing for one of a later version. */
export function readMessage(bytes: Uint8Array<ArrayBuffer>): DesktopMessage | undefined {
  const r = new Reader(bytes);
  switch (r.u8()) {
    case 1:
      return { kind: "size", width: r.u16(), height: r.u16() };
    case 2: {
      const flags = r.u8();
      const parts: Part[] = [];
      while (r.left) parts.push(part(r));
      return { kind: "parts", whole: (flags & 1) !== 0, more: (flags & 2) !== 0, parts };
    }
    case 3: {
      const [width, height, x, y] = [r.u16(), r.u16(), r.u16(), r.u16()];
      return { kind: "shape", width, height, x, y, pixels: new Uint8ClampedArray(r.take(width * height * 4)) };
    }
    case 4:
      return { kind: "at", x: r.u16(), y: r.u16(), buttons: r.u8() };
    case 5:
      return { kind: "bell" };
    case 6: {
      const note = r.u8() === 1;
      return { kind: "said", note, who: r.name(), text: new TextDecoder().decode(r.take(r.left)) };
    }
    case 7: {
      const who = r.name();
      const points: [number, number][] = [];
      while (r.left >= 4) points.push([r.u16(), r.u16()]);
      return { kind: "line", who, points };
    }
    case 8: {
      const [width, height] = [r.u16(), r.u16()];
      return { kind: "film", codec: r.name(), width, height };
    }
    case 9:
      return { kind: "piece", key: (r.u8() & 1) !== 0, time: r.u64(), data: r.take(r.left) };
    case 10: {
      const screens: Area[] = [];
      while (r.left >= 8) screens.push({ x: r.u16(), y: r.u16(), width: r.u16(), height: r.u16() });
      return { kind: "screens", screens };
    }
    default:
      return undefined;
  }
}

/** Undoes the compression of a packed message: its number, and its bytes. */
export async function unpack(packed: ArrayBuffer): Promise<[number, Uint8Array<ArrayBuffer>]> {
  const view = new DataView(packed);
  const number = Number(view.getBigUint64(0));
  const content = new Uint8Array(packed, 9);
  if (view.getUint8(8) === 0) return [number, content];
  const stream = new Blob([content]).stream().pipeThrough(new DecompressionStream("deflate-raw"));
  return [number, new Uint8Array(await new Response(stream).arrayBuffer())];
}

/** A message of a recording, and when it was. */
export interface RecordedMessage {
  at: number;
  bytes: Uint8Array<ArrayBuffer>;
}

/** Cuts a piece of a recording into its messages. */
export function readRecorded(piece: ArrayBuffer): RecordedMessage[] {
  const view = new DataView(piece);
  const all: RecordedMessage[] = [];
  for (let at = 0; at + 12 <= piece.byteLength;) {
    const length = view.getUint32(at);
    if (at + 12 + length > piece.byteLength) break;
    all.push({ at: Number(view.getBigUint64(at + 4)), bytes: new Uint8Array(piece, at + 12, length) });
    at += 12 + length;
  }
  return all;
}

import { vi } from "vitest";

/** A WebSocket whose other end is the test. */
export class FakeSocket {
  static readonly OPEN = 1;
  /** All that were opened, the newest last. */
  static all: FakeSocket[] = [];
  readyState = 0;
  bufferedAmount = 0;
  binaryType = "";
  readonly sent: unknown[] = [];
  readonly pieces: ArrayBuffer[] = [];
  closed = false;
  onopen?: () => void;
  onmessage?: (event: { data: string | ArrayBuffer }) => void;
  onclose?: () => void;

  constructor(readonly url: string) {
    FakeSocket.all.push(this);
  }
  /** Stands where the browser's is, from here on. */
  static install() {
    FakeSocket.all = [];
    vi.stubGlobal("WebSocket", FakeSocket);
  }
  static get last() {
    return FakeSocket.all.at(-1)!;
  }
  send(what: string | ArrayBuffer) {
    if (typeof what === "string") this.sent.push(JSON.parse(what));
    else this.pieces.push(what);
  }
  close() {
    this.closed = true;
    this.readyState = 3;
    this.onclose?.();
  }
  /** The service takes the connection. */
  opens() {
    this.readyState = FakeSocket.OPEN;
    this.onopen?.();
    return this;
  }
  /** The service says something. */
  says(what: unknown) {
    this.onmessage?.({ data: JSON.stringify(what) });
  }
  /** The service sends bytes. */
  shows(bytes: ArrayBuffer) {
    this.onmessage?.({ data: bytes });
  }
  /** The network breaks off. */
  breaks() {
    this.readyState = 3;
    this.onclose?.();
  }
}

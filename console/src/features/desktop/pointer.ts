const LONG_PRESS = 600;
const WHEEL_STEP = 40;
/** How far a finger may tremble before it drags, in pixels. */
const STILL = 8;

/** What of a pointer's event counts here. */
type At = { clientX: number; clientY: number };
type Point = [x: number, y: number];

/** Buttons of RFB (RFC 6143 section 7.5.5) by those of the browser. */
const buttonOf = (event: { button: number }) => [1, 2, 4][event.button] ?? 0;

/** Follows mouse, pen or fingers over a picture: where the machine's pointer is, and which of its buttons are down. */
export class Pointer {
  private buttons = 0;
  private last: Point | undefined;
  private moved: Point | undefined;
  private frame = 0;
  private wheel = 0;
  private press = 0;
  private touch: { x: number; y: number; dragging: boolean } | undefined;

  /** `place` says where on the machine's screen something is. */
  constructor(
    private readonly place: (event: At) => Point,
    private readonly send: (x: number, y: number, buttons: number) => void,
  ) {}

  down(event: At & { button: number; pointerType: string }) {
    const at = this.place(event);
    if (event.pointerType === "touch") {
      this.touch = { x: event.clientX, y: event.clientY, dragging: false };
      this.soon(at);
      // Held still, a finger is the right button.
      window.clearTimeout(this.press);
      this.press = window.setTimeout(() => {
        if (!this.touch || this.touch.dragging) return;
        this.touch = undefined;
        this.click(at, 4);
      }, LONG_PRESS);
      return;
    }
    this.buttons |= buttonOf(event);
    this.now(at);
  }

  move(event: At & { pointerType: string }) {
    if (event.pointerType === "touch") {
      const touch = this.touch;
      if (!touch) return;
      if (!touch.dragging && Math.hypot(event.clientX - touch.x, event.clientY - touch.y) > STILL) {
        touch.dragging = true;
        this.buttons = 1;
        this.now(this.place({ clientX: touch.x, clientY: touch.y }));
      }
      if (!touch.dragging) return;
    }
    this.soon(this.place(event));
  }

  up(event: At & { button: number; pointerType: string }) {
    window.clearTimeout(this.press);
    const at = this.place(event);
    if (event.pointerType === "touch") {
      if (this.touch?.dragging) {
        this.buttons = 0;
        this.now(at);
      } else if (this.touch) this.click(at, 1);
      this.touch = undefined;
      return;
    }
    this.buttons &= ~buttonOf(event);
    this.now(at);
  }

  scroll(event: At & { deltaY: number; deltaMode: number }) {
    this.wheel += event.deltaMode ? event.deltaY * WHEEL_STEP : event.deltaY;
    const at = this.place(event);
    for (; Math.abs(this.wheel) >= WHEEL_STEP; this.wheel -= Math.sign(this.wheel) * WHEEL_STEP) {
      this.send(...at, this.buttons | (this.wheel < 0 ? 8 : 16));
      this.send(...at, this.buttons);
    }
  }

  /** Nothing stays pressed: the window is left, or the browser took the pointer away. */
  release() {
    window.clearTimeout(this.press);
    cancelAnimationFrame(this.frame);
    this.frame = 0;
    this.moved = this.touch = undefined;
    if (this.buttons && this.last) {
      this.buttons = 0;
      this.now(this.last);
    }
  }

  private click(at: Point, button: number) {
    this.buttons = button;
    this.now(at);
    this.buttons = 0;
    this.now(at);
  }

  private now(at: Point) {
    this.moved = undefined;
    this.last = at;
    this.send(...at, this.buttons);
  }

  /** Movements go out once a frame of this screen: more of them nobody sees. */
  private soon(at: Point) {
    this.moved = at;
    this.frame ||= requestAnimationFrame(() => {
      this.frame = 0;
      if (this.moved) this.now(this.moved);
    });
  }
}

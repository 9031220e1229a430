import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { within } from "../../testing/page";
import { useShare, type Film } from "./useShare";

/** A picture of the screen, of which it is known whether it was given back: browsers have few at a time. */
class FakeFrame {
  static open = 0;
  closed = false;
  readonly displayWidth: number;
  readonly displayHeight: number;
  constructor(of: { displayWidth: number; displayHeight: number }) {
    [this.displayWidth, this.displayHeight] = [of.displayWidth, of.displayHeight];
    FakeFrame.open++;
  }
  close() {
    if (!this.closed) FakeFrame.open--;
    this.closed = true;
  }
}

/** A coder that makes one byte of each picture. */
class FakeEncoder {
  static all: FakeEncoder[] = [];
  state = "unconfigured";
  encodeQueueSize = 0;
  asked: boolean[] = [];
  film?: Film;
  constructor(readonly how: { output: (chunk: unknown) => void; error: (e: Error) => void }) {
    FakeEncoder.all.push(this);
  }
  configure(film: Film) {
    this.state = "configured";
    this.film = film;
  }
  encode(_: FakeFrame, { keyFrame }: { keyFrame: boolean }) {
    this.asked.push(keyFrame);
    this.how.output({
      type: keyFrame ? "key" : "delta",
      timestamp: 5,
      byteLength: 1,
      copyTo: (b: Uint8Array) => b.set([7]),
    });
  }
  close() {
    this.state = "closed";
  }
}

/** A screen that somebody chose, whose pictures the test makes. */
function screen() {
  let give!: ReadableStreamDefaultController<FakeFrame>;
  const readable = new ReadableStream<FakeFrame>({ start: (c) => void (give = c) });
  const track = {
    readyState: "live",
    onended: undefined as undefined | (() => void),
    stop: vi.fn(),
    applyConstraints: vi.fn(),
  };
  const picture = async (displayWidth = 1281, displayHeight = 801) => {
    give.enqueue(new FakeFrame({ displayWidth, displayHeight }));
    await flushPromises();
    await flushPromises();
  };
  vi.stubGlobal(
    "MediaStreamTrackProcessor",
    class {
      readable = readable;
    },
  );
  const stream = { getVideoTracks: () => [track], getTracks: () => [track] };
  return { track, picture, stream };
}

describe("sharing a screen", () => {
  let chosen: ReturnType<typeof screen>;
  let waiting = 0;
  let films: Film[] = [];
  let pieces: ArrayBuffer[] = [];
  const ended = vi.fn();
  beforeEach(() => {
    vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout", "performance"] });
    vi.stubGlobal("VideoEncoder", FakeEncoder);
    vi.stubGlobal("VideoFrame", FakeFrame);
    [FakeFrame.open, FakeEncoder.all, waiting, films, pieces] = [0, [], 0, [], []];
    ended.mockReset();
    chosen = screen();
    Object.defineProperty(navigator, "mediaDevices", {
      value: { getDisplayMedia: vi.fn(async () => chosen.stream) },
      configurable: true,
    });
  });
  afterEach(() => {
    vi.useRealTimers();
    vi.unstubAllGlobals();
  });

  async function sharing() {
    const { it: share } = await within(() =>
      useShare(
        (f) => films.push({ ...f }),
        (p) => pieces.push(p),
        () => waiting,
        ended,
      ),
    );
    await share.start();
    await flushPromises();
    return { share, coder: () => FakeEncoder.all.at(-1)! };
  }

  it("tells how the film is coded before its first piece, which is a whole picture", async () => {
    const { share } = await sharing();
    expect([share.sharing.value, share.pictured.value]).toEqual([true, false]);
    await chosen.picture();
    // Coders want even sizes.
    expect(films).toEqual([{ codec: "vp8", width: 1280, height: 800 }]);
    const first = new DataView(pieces[0]!);
    expect([first.getUint8(0), Number(first.getBigUint64(1)), first.getUint8(9)]).toEqual([1, 5, 7]);
    await chosen.picture();
    expect(new DataView(pieces[1]!).getUint8(0)).toBe(0);
    expect([share.pictured.value, share.size]).toEqual([true, [1280, 800]]);
  });

  it("begins anew with another size of what is shared", async () => {
    const { coder } = await sharing();
    await chosen.picture();
    await chosen.picture(640, 480);
    expect(films.map((f) => f.width)).toEqual([1280, 640]);
    expect([FakeEncoder.all[0]!.state, coder().asked]).toEqual(["closed", [true]]);
  });

  it("leaves pictures out while line or coder are behind, and catches up with the last one", async () => {
    const { coder } = await sharing();
    await chosen.picture();
    waiting = 500_000;
    await chosen.picture();
    await chosen.picture();
    expect(pieces).toHaveLength(1);
    waiting = 0;
    coder().encodeQueueSize = 2;
    vi.advanceTimersByTime(700);
    expect(pieces).toHaveLength(1);
    coder().encodeQueueSize = 0;
    vi.advanceTimersByTime(700);
    expect(pieces).toHaveLength(2);
    // The one that is held for whoever comes later, and no more.
    expect(FakeFrame.open).toBe(1);
  });

  it("gives a whole picture when somebody begins to look, and every three seconds", async () => {
    const { share, coder } = await sharing();
    await chosen.picture();
    await chosen.picture();
    share.wantKey();
    expect(coder().asked).toEqual([true, false, true]);
    vi.advanceTimersByTime(3000);
    await chosen.picture();
    expect(coder().asked.at(-1)).toBe(true);
  });

  it("is told again on another connection", async () => {
    const { share, coder } = await sharing();
    share.again();
    expect(films).toHaveLength(0);
    await chosen.picture();
    share.again();
    expect([films.length, coder().asked]).toEqual([2, [true, true]]);
  });

  it("ends by the person's hand, in the page or in the browser, and gives everything back", async () => {
    const { share } = await sharing();
    await chosen.picture();
    share.stop();
    expect([share.sharing.value, FakeFrame.open, chosen.track.stop.mock.calls.length]).toEqual([false, 0, 1]);
    expect([FakeEncoder.all[0]!.state, ended.mock.calls.length]).toEqual(["closed", 0]);
    // A picture that was under way is not sent.
    await chosen.picture();
    vi.advanceTimersByTime(10_000);
    expect([pieces.length, FakeFrame.open]).toEqual([1, 0]);

    chosen = screen();
    await share.start();
    await chosen.picture();
    chosen.track.onended!();
    expect([share.sharing.value, ended.mock.calls.length, FakeFrame.open]).toEqual([false, 1, 0]);
  });

  it("says so where the browser gives no picture, where nothing was chosen, and where it cannot share at all", async () => {
    const { share } = await sharing();
    vi.advanceTimersByTime(3999);
    expect(share.dark.value).toBe(false);
    vi.advanceTimersByTime(1);
    expect(share.dark.value).toBe(true);
    await chosen.picture();
    expect(share.dark.value).toBe(false);
    share.stop();
    vi.mocked(navigator.mediaDevices.getDisplayMedia).mockRejectedValueOnce(new DOMException("no", "NotAllowedError"));
    await share.start();
    expect([share.sharing.value, share.error.value]).toEqual([false, "Nothing is shared: no screen was chosen."]);
    vi.stubGlobal("VideoEncoder", undefined);
    await share.start();
    expect(share.error.value).toContain("cannot share a screen");
  });
});

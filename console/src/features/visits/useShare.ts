import { reactive, ref, shallowRef } from "vue";

/** How the film of a screen is coded. */
export interface Film {
  codec: string;
  width: number;
  height: number;
}

const FRAMES = 15;
const BITS = 2_500_000;
/** A whole picture comes this often at least, in microseconds. */
const WHOLE = 3_000_000;
/** Bytes that wait for the line at most; beyond, pictures are left out. */
const WAITING = 400_000;

/** After so many milliseconds without another picture the last one is sent once more: it may have been left out, and it gets sharper. */
const SETTLES = 700;

/** So many milliseconds without a first picture are too many; before, it is asked for so often. */
const DARK = 4000;
const NUDGE = 700;

/** The tracks of a screen as pictures: as they come where the browser can do that, also while this page is not seen. */
interface TrackProcessor {
  readable: ReadableStream<VideoFrame>;
}
declare global {
  interface Window {
    MediaStreamTrackProcessor?: new (options: { track: MediaStreamTrack }) => TrackProcessor;
  }
}

/** Shares this computer's screen as film: view alone, nothing comes back. */
export function useShare(
  begin: (film: Film) => void,
  send: (piece: ArrayBuffer) => void,
  waiting: () => number,
  ended: () => void,
) {
  const sharing = ref(false);
  const error = ref("");
  /** Whether the browser gave a picture of what was chosen; and that it gives none. */
  const pictured = ref(false);
  const dark = ref(false);
  const stream = shallowRef<MediaStream>();
  const size = reactive<[number, number]>([1, 1]);
  let encoder: VideoEncoder | undefined;
  let film: Film | undefined;
  let last = -1;
  /** A whole picture is owed: until one came out of the coder, which may leave pictures out. */
  let key = true;
  /** Of a screen on which nothing changes no further picture comes: the last is kept for whoever begins to look. */
  let held: VideoFrame | undefined;
  let settling = 0;

  function configure(frame: VideoFrame) {
    // Coders want even sizes.
    const [width, height] = [frame.displayWidth & ~1, frame.displayHeight & ~1];
    if (film?.width === width && film.height === height && encoder?.state === "configured") return;
    film = { codec: "vp8", width, height };
    [size[0], size[1]] = [width, height];
    if (encoder && encoder.state !== "closed") encoder.close();
    encoder = new VideoEncoder({
      output: (chunk) => {
        if (chunk.type === "key") key = false;
        const piece = new ArrayBuffer(9 + chunk.byteLength);
        const view = new DataView(piece);
        view.setUint8(0, chunk.type === "key" ? 1 : 0);
        view.setBigUint64(1, BigInt(Math.max(0, Math.round(chunk.timestamp))));
        chunk.copyTo(new Uint8Array(piece, 9));
        send(piece);
      },
      error: (e) => (error.value = e.message),
    });
    encoder.configure({ ...film, bitrate: BITS, framerate: FRAMES, latencyMode: "realtime" });
    key = true;
    begin(film);
  }

  function encode(frame: VideoFrame) {
    // Times of our own: those of a capture begin where they like.
    const at = Math.round(performance.now() * 1000);
    const whole = key || at - last >= WHOLE;
    if (whole) last = at;
    const timed = new VideoFrame(frame, { timestamp: at });
    encoder?.encode(timed, { keyFrame: whole });
    timed.close();
  }

  function take(frame: VideoFrame) {
    if (!sharing.value) return frame.close();
    held?.close();
    held = frame;
    [pictured.value, dark.value] = [true, false];
    sendHeld();
    settle();
  }

  /** Whether it was sent: while coder and line are behind, pictures are left out. */
  function sendHeld(): boolean {
    if (!held || (encoder?.encodeQueueSize ?? 0) > 1 || waiting() > WAITING) return false;
    configure(held);
    encode(held);
    return true;
  }

  function settle() {
    window.clearTimeout(settling);
    settling = window.setTimeout(() => held && (!sendHeld() || key) && settle(), SETTLES);
  }

  async function follow(track: MediaStreamTrack) {
    const Processor = window.MediaStreamTrackProcessor;
    if (Processor) {
      const reader = new Processor({ track }).readable.getReader();
      for (let next = await reader.read(); !next.done; next = await reader.read()) take(next.value);
      return;
    }
    const video = document.createElement("video");
    video.srcObject = new MediaStream([track]);
    video.muted = true;
    await video.play();
    const each = (now: number) => {
      if (!sharing.value) return;
      take(new VideoFrame(video, { timestamp: now * 1000 }));
      video.requestVideoFrameCallback(each);
    };
    video.requestVideoFrameCallback(each);
  }

  async function start() {
    error.value = "";
    if (typeof VideoEncoder === "undefined" || !navigator.mediaDevices?.getDisplayMedia) {
      error.value = "This browser cannot share a screen. A recent Chromium, Edge, Firefox or Safari on a computer can.";
      return;
    }
    try {
      stream.value = await navigator.mediaDevices.getDisplayMedia({
        video: { width: { max: 1920 }, height: { max: 1200 }, frameRate: { max: FRAMES } },
        audio: false,
      });
    } catch {
      error.value = "Nothing is shared: no screen was chosen.";
      return;
    }
    const track = stream.value.getVideoTracks()[0];
    if (!track) return;
    sharing.value = true;
    pictured.value = false;
    track.onended = () => {
      stop();
      ended();
    };
    void follow(track);
    void nudge(track);
    window.setTimeout(() => (dark.value = sharing.value && !held), DARK);
  }

  /**
   * Of a screen on which nothing changes there is but one picture, and it may have gone by before anybody took it: a second taker is given the last
   * one anew, and so is one whose wishes change.
   */
  async function nudge(track: MediaStreamTrack) {
    const video = document.createElement("video");
    video.muted = true;
    for (let n = 0; sharing.value && track.readyState === "live"; n++) {
      await new Promise((done) => window.setTimeout(done, NUDGE));
      if (held || !sharing.value) break;
      if (n === 0) {
        video.srcObject = new MediaStream([track]);
        void video.play().catch(() => undefined);
      } else if (video.readyState >= HTMLMediaElement.HAVE_CURRENT_DATA) take(new VideoFrame(video, { timestamp: 0 }));
      else await track.applyConstraints({ frameRate: { max: FRAMES - (n % 2) } }).catch(() => undefined);
    }
    video.srcObject = null;
  }

  function stop() {
    sharing.value = dark.value = false;
    stream.value?.getTracks().forEach((t) => t.stop());
    stream.value = undefined;
    if (encoder && encoder.state !== "closed") encoder.close();
    encoder = undefined;
    film = undefined;
    window.clearTimeout(settling);
    held?.close();
    held = undefined;
  }

  return {
    sharing,
    pictured,
    dark,
    error,
    stream,
    size,
    start,
    stop,
    /** A whole picture is wanted: somebody begins to look. */
    wantKey: () => {
      key = true;
      if (held && encoder?.state === "configured") encode(held);
      settle();
    },
    /** The connection is another: what is shared is told again. */
    again: () => {
      key = true;
      if (!film || !sharing.value) return;
      begin(film);
      if (held) encode(held);
      settle();
    },
  };
}

/** How long film may be without a picture, in milliseconds. */
const BLIND = 3000;

/** Reads film as a browser coded it, picture by picture. */
export class Film {
  private decoder: VideoDecoder | undefined;
  /** A film is shown from its first whole picture on. */
  private whole = false;
  private blind = 0;

  /** Each picture goes to `draw`; `needs` is called while none can be seen: a whole one is needed. */
  constructor(
    private readonly draw: (frame: VideoFrame) => void,
    private readonly needs: () => void,
  ) {}

  /** From here on it comes coded so. */
  begin(codec: string, width: number, height: number) {
    this.end();
    this.whole = false;
    if (typeof VideoDecoder === "undefined") return;
    this.blind = window.setInterval(this.needs, BLIND);
    this.decoder = new VideoDecoder({
      output: (frame) => {
        window.clearInterval(this.blind);
        this.draw(frame);
        frame.close();
      },
      // A film that cannot be read stands still; the next whole picture goes on.
      error: () => this.begin(codec, width, height),
    });
    this.decoder.configure({ codec, codedWidth: width, codedHeight: height, optimizeForLatency: true });
  }

  /** Takes a piece, of a time in microseconds. */
  piece(key: boolean, timestamp: number, data: Uint8Array<ArrayBuffer>) {
    this.whole ||= key;
    if (this.whole && this.decoder?.state === "configured")
      this.decoder.decode(new EncodedVideoChunk({ type: key ? "key" : "delta", timestamp, data }));
  }

  /** Nothing more comes. */
  end() {
    window.clearInterval(this.blind);
    if (this.decoder && this.decoder.state !== "closed") this.decoder.close();
  }
}

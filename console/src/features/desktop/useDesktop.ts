import { onUnmounted, reactive, ref } from "vue";
import type { PeopleThere, ToViewer } from "../../api/client";
import { readMessage, unpack, type DesktopMessage } from "../../lib/desktop";

/** How a desktop is reached: a new session on a machine, one that is live, or what somebody shares in a visit. */
export type DesktopTarget = { machine: string; way?: string } | { session: string } | { visit: string };
/** Where things stand. `lost`: the network broke off, and it is tried again. */
export type DesktopPhase = "begin" | "live" | "lost" | "over";
/** State of a capability: see docs/formats/desktop.md. */
export type UseState = "on" | "asked" | "at-once" | "ask" | "refused";

/** How exactly colours are sent: as the line allows, or as somebody wants it. */
export type Quality = "line" | "exact" | "few";

/** There and back, in milliseconds: beyond the first, three times in a row, fewer colours are sent; under the second, ten times, all of them. */
const SLOW = 250;
const QUICK = 80;
/** Waits between attempts to come back, in milliseconds. */
const RETRIES = [500, 1000, 2000, 4000, 8000];
const FIGURES_EVERY = 1000;

/** The dialogue with the service about one desktop. Pictures go to whoever is named with `draw`. */
export function useDesktop(target: DesktopTarget) {
  const phase = ref<DesktopPhase>("begin");
  const steps = ref<string[]>([]);
  const over = ref("");
  const began = ref<Extract<ToViewer, { kind: "began" }>>();
  const uses = reactive<Record<string, UseState>>({});
  const people = ref<PeopleThere>();
  const notice = ref("");
  const said = ref<{ who: string; text: string; note: boolean }[]>([]);
  const clipboard = ref("");
  const quality = ref<Quality>("line");
  let sent: "exact" | "few" = "exact";
  let streak = 0;
  const figures = reactive({ updates: 0, kilobytes: 0, draw: 0, trip: 0 });
  let socket: WebSocket | undefined;
  /** What came before there was anything to draw on. */
  const early: DesktopMessage[] = [];
  let draw: (message: DesktopMessage) => void = (message) => early.push(message);
  let work: Promise<void> = Promise.resolve();
  let tries = 0;
  let timer = 0;
  let pinged = 0;
  const counted = { updates: 0, bytes: 0, time: 0 };

  const address = (path: string) => `${location.protocol === "https:" ? "wss" : "ws"}://${location.host}/api/v1${path}`;

  function send(what: unknown) {
    if (socket?.readyState === WebSocket.OPEN) socket.send(JSON.stringify(what));
  }

  function told(what: ToViewer) {
    switch (what.kind) {
      case "step":
        steps.value.push(what.text);
        notice.value = phase.value === "live" ? what.text : "";
        break;
      case "refused":
        if (what.capability) notice.value = what.text;
        else {
          phase.value = "over";
          over.value = what.text;
        }
        break;
      case "began":
        began.value = what;
        phase.value = "live";
        tries = 0;
        break;
      case "uses":
        for (const [capability, state] of what.uses as [string, UseState][]) uses[capability] = state;
        break;
      case "notice":
        notice.value = what.text;
        break;
      case "people":
        people.value = what.people;
        break;
      case "clipboard":
        clipboard.value = what.text;
        break;
      case "pong":
        figures.trip = performance.now() - pinged;
        judge(figures.trip);
        break;
      case "elsewhere":
        phase.value = "over";
        over.value = "Another window of yours has this session now.";
        break;
      case "ended":
        phase.value = "over";
        over.value = what.text;
    }
  }

  function sendQuality(wanted: "exact" | "few") {
    streak = 0;
    if (wanted !== sent) send({ quality: (sent = wanted) });
  }

  /** What the line allows, by how long an answer takes behind the pictures. */
  function judge(trip: number) {
    if (quality.value !== "line") return;
    const against = sent === "exact" ? trip > SLOW : trip < QUICK;
    streak = against ? streak + 1 : 0;
    if (sent === "exact" && streak >= 3) sendQuality("few");
    if (sent === "few" && streak >= 10) sendQuality("exact");
  }

  function setQuality(to: Quality) {
    quality.value = to;
    if (to !== "line") sendQuality(to);
  }

  async function picture(packed: ArrayBuffer) {
    const start = performance.now();
    const [number, bytes] = await unpack(packed);
    const message = readMessage(bytes);
    if (message?.kind === "said") said.value.push(message);
    else if (message) draw(message);
    counted.updates++;
    counted.bytes += packed.byteLength;
    counted.time += performance.now() - start;
    send({ drawn: number });
  }

  function connect(path: string, first?: unknown) {
    const mine = (socket = new WebSocket(address(path)));
    mine.binaryType = "arraybuffer";
    mine.onopen = () => first && send(first);
    mine.onmessage = (event: MessageEvent<string | ArrayBuffer>) => {
      if (typeof event.data === "string") told(JSON.parse(event.data) as ToViewer);
      else {
        const packed = event.data;
        // What cannot be read is a hole in the picture: all of it is asked for anew.
        work = work.then(() => picture(packed)).catch(() => send("refresh"));
      }
    };
    mine.onclose = () => {
      if (mine !== socket || phase.value === "over") return;
      const id = began.value?.session;
      if (!id) {
        phase.value = "over";
        over.value ||= "The service does not let you open this, or cannot be reached.";
        return;
      }
      phase.value = "lost";
      if (tries >= RETRIES.length) {
        phase.value = "over";
        over.value = "The connection is lost, and the service cannot be reached.";
        return;
      }
      timer = window.setTimeout(() => connect(`/sessions/${encodeURIComponent(id)}/desktop`), RETRIES[tries++]);
    };
  }

  /** Begins, with what the rules may want to know. */
  function begin(reason = "", ticket = "") {
    phase.value = "begin";
    over.value = "";
    steps.value = [];
    if ("session" in target) return connect(`/sessions/${encodeURIComponent(target.session)}/desktop`);
    if ("visit" in target)
      return connect(`/visits/${encodeURIComponent(target.visit)}/screen`, { begin: { reason, ticket } });
    const way = target.way ? `?way=${encodeURIComponent(target.way)}` : "";
    connect(`/machines/${encodeURIComponent(target.machine)}/desktop${way}`, { begin: { reason, ticket } });
  }

  const measuring = window.setInterval(() => {
    figures.updates = counted.updates;
    figures.kilobytes = counted.bytes / 1000;
    figures.draw = counted.updates ? counted.time / counted.updates : 0;
    counted.updates = counted.bytes = counted.time = 0;
    pinged = performance.now();
    send({ ping: 1 });
  }, FIGURES_EVERY);

  onUnmounted(() => {
    window.clearInterval(measuring);
    window.clearTimeout(timer);
    const mine = socket;
    socket = undefined;
    mine?.close();
  });

  return {
    phase,
    steps,
    over,
    began,
    uses,
    people,
    notice,
    said,
    clipboard,
    figures,
    quality,
    setQuality,
    begin,
    send,
    dismiss: () => (notice.value = ""),
    drawWith: (to: (message: DesktopMessage) => void) => {
      draw = to;
      early.splice(0).forEach(to);
    },
  };
}

export type DesktopLink = ReturnType<typeof useDesktop>;

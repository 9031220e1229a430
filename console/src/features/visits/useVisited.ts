import { onUnmounted, reactive, ref } from "vue";
import type { ToVisited, VisitPass } from "../../api/client";
import { useShare } from "./useShare";

/** How things stand for whoever is helped. */
export type Standing = Extract<ToVisited, { kind: "standing" }>;

/** What this computer is, as far as a browser tells. */
function device() {
  const agent = navigator.userAgent;
  const systems: [RegExp, string][] = [
    [/Windows NT/, "Windows"],
    [/Android/, "Android"],
    [/iPhone|iPad/, "iOS"],
    [/Mac OS X/, "macOS"],
    [/CrOS/, "ChromeOS"],
    [/Linux/, "Linux"],
  ];
  const browsers: [RegExp, string][] = [
    [/Firefox\/([\d]+)/, "Firefox"],
    [/Edg\/([\d]+)/, "Edge"],
    [/Chrome\/([\d]+)/, "Chromium"],
    [/Version\/([\d]+).*Safari/, "Safari"],
  ];
  const browser = browsers.find(([r]) => r.test(agent));
  return {
    system: systems.find(([r]) => r.test(agent))?.[1] ?? "",
    browser: browser ? `${browser[1]} ${browser[0].exec(agent)?.[1] ?? ""}`.trim() : "",
    screen: `${screen.width} × ${screen.height}`,
  };
}

/** The visit of whoever has this page open: how it stands, what is said, and the screen that they share. */
export function useVisited(pass: VisitPass) {
  const standing = ref<Standing>();
  const said = reactive<{ who: string; text: string }[]>([]);
  const lines = reactive<[number, number][][]>([]);
  const over = ref("");
  const lost = ref(false);
  /** The line for a terminal that starts the program for a visit. */
  const line = ref("");
  let socket: WebSocket | undefined;
  let timer = 0;

  function send(what: unknown) {
    if (socket?.readyState === WebSocket.OPEN) socket.send(JSON.stringify(what));
  }
  const share = useShare(
    (film) => send({ film }),
    (piece) => socket?.readyState === WebSocket.OPEN && socket.send(piece),
    () => socket?.bufferedAmount ?? 0,
    () => send("stop"),
  );

  function told(what: ToVisited) {
    switch (what.kind) {
      case "standing":
        standing.value = what;
        break;
      case "said":
        said.push(what);
        break;
      case "line":
        if (what.points.length) lines.push(what.points as [number, number][]);
        else lines.length = 0;
        break;
      case "key":
        share.wantKey();
        break;
      case "program":
        line.value = what.line;
        break;
      case "over":
        over.value = what.text;
        share.stop();
    }
  }

  function connect() {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    const mine = (socket = new WebSocket(`${scheme}://${location.host}/api/v1/visits/${pass.visit}/page`));
    mine.onopen = () => {
      lost.value = false;
      send({ begin: { token: pass.token, ...device() } });
      share.again();
    };
    mine.onmessage = (event: MessageEvent<string>) => told(JSON.parse(event.data) as ToVisited);
    mine.onclose = () => {
      if (mine !== socket || over.value) return;
      lost.value = true;
      timer = window.setTimeout(connect, 1500);
    };
  }
  connect();
  onUnmounted(() => {
    window.clearTimeout(timer);
    share.stop();
    const mine = socket;
    socket = undefined;
    mine?.close();
  });

  return { standing, said, lines, over, lost, line, share, send, onLinux: device().system === "Linux" };
}

import { onUnmounted, reactive, ref, watch, type Ref } from "vue";
import { ApiError, failure, type LiveLine, type PeopleThere } from "../../api/client";
import { bytesOf, readLines } from "../../lib/lines";

/** What a terminal that shows a session takes. */
export interface Screen {
  /** A screen as it is now: whatever was shown before is gone. */
  draw: (columns: number, rows: number, bytes: Uint8Array) => void;
  write: (bytes: Uint8Array) => void;
  resize: (columns: number, rows: number) => void;
}

/** A session that is watched. */
export interface Watched {
  people: PeopleThere | null;
  /** Terminals that are open, by number. */
  terminals: number[];
  /** Why nothing more comes: refused, or over. */
  over: string;
}

/** Before a connection that broke off is tried again, in milliseconds. */
const AGAIN = 2000;

/** Follows live sessions over one connection, however many they are. Screens say themselves what they want to show. */
export function useLive(ids: Ref<string[]>) {
  const sessions = reactive<Record<string, Watched>>({});
  const screens = new Map<string, Set<Screen>>();
  /** The last screen of each terminal and what came since, for a picture that is opened later. */
  const last = new Map<string, { size: [number, number]; pieces: Uint8Array[]; bytes: number }>();
  let stop: AbortController | undefined;
  /** The connection broke off, and it is tried again: what is shown is as it was. */
  const lost = ref(false);
  let timer = 0;

  const watched = (id: string) => (sessions[id] ??= { people: null, terminals: [], over: "" });
  const key = (session: string, channel: number) => `${session} ${channel}`;

  function take(line: LiveLine) {
    const it = watched(line.session);
    const channel = line.channel ?? 0;
    const name = key(line.session, channel);
    const shown = screens.get(name) ?? new Set<Screen>();
    const bytes = line.data ? bytesOf(line.data) : new Uint8Array();
    switch (line.kind) {
      case "people":
        it.people = line.people ?? null;
        break;
      case "screen": {
        const size = (line.size ?? [80, 24]) as [number, number];
        if (!it.terminals.includes(channel)) it.terminals.push(channel);
        last.set(name, { size, pieces: [bytes], bytes: bytes.length });
        shown.forEach((s) => s.draw(size[0], size[1], bytes));
        break;
      }
      case "size": {
        const size = (line.size ?? [80, 24]) as [number, number];
        if (!it.terminals.includes(channel)) it.terminals.push(channel);
        const kept = last.get(name) ?? { size, pieces: [], bytes: 0 };
        last.set(name, { ...kept, size });
        shown.forEach((s) => s.resize(size[0], size[1]));
        break;
      }
      case "output": {
        const kept = last.get(name);
        if (kept) {
          kept.pieces.push(bytes);
          kept.bytes += bytes.length;
          while (kept.bytes > 262_144 && kept.pieces.length > 1) kept.bytes -= kept.pieces.shift()?.length ?? 0;
        }
        shown.forEach((s) => s.write(bytes));
        break;
      }
      case "closed":
        it.terminals = it.terminals.filter((c) => c !== channel);
        last.delete(name);
        break;
      default:
        it.over = line.sentence ?? "It is over.";
    }
  }

  async function follow(wanted: string[]) {
    stop?.abort();
    window.clearTimeout(timer);
    lost.value = false;
    if (!wanted.length) return;
    const mine = (stop = new AbortController());
    const path = `/api/v1/live?sessions=${wanted.map(encodeURIComponent).join(",")}`;
    try {
      const answer = await fetch(path, { signal: mine.signal });
      if (!answer.ok) throw await failure(answer);
      // All that is open is told anew.
      wanted.forEach((id) => sessions[id] && (sessions[id].terminals = []));
      await readLines<LiveLine>(answer, take);
    } catch (why) {
      if (mine.signal.aborted) return;
      if (why instanceof ApiError && why.status < 500) for (const id of wanted) watched(id).over ||= why.message;
    }
    // What is neither over nor refused goes on.
    const open = wanted.filter((id) => !sessions[id]?.over);
    if (mine.signal.aborted || !open.length) return;
    lost.value = true;
    timer = window.setTimeout(() => void follow(open), AGAIN);
  }

  watch(
    () => ids.value.join(","),
    (now) => void follow(now ? now.split(",") : []),
    { immediate: true },
  );
  onUnmounted(() => {
    stop?.abort();
    window.clearTimeout(timer);
  });

  /** Shows a terminal on a screen from now on; gives what ends that. */
  function show(session: string, channel: number, screen: Screen): () => void {
    const name = key(session, channel);
    const known = last.get(name);
    if (known) {
      screen.draw(known.size[0], known.size[1], known.pieces[0] ?? new Uint8Array());
      known.pieces.slice(1).forEach((p) => screen.write(p));
    }
    const all = screens.get(name) ?? new Set<Screen>();
    all.add(screen);
    screens.set(name, all);
    return () => all.delete(screen);
  }

  return { sessions, show, lost };
}

export type Live = ReturnType<typeof useLive>;

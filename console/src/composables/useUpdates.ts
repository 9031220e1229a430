import { useQueryClient } from "@tanstack/vue-query";
import { onUnmounted } from "vue";

/** Which queries look stale when a kind of thing changes. */
const CONCERNS: Record<string, string[]> = {
  sessions: ["sessions", "session", "now", "strips"],
  findings: ["findings", "finding", "now", "strips", "accesses"],
  asking: ["requests", "passes", "now"],
  outbox: ["now"],
  log: ["log"],
  rules: ["strips", "policy", "drafts", "draft", "reach", "versions", "why"],
  reviews: ["reviews", "review"],
  people: ["people", "account", "me", "reach"],
  pins: ["pins"],
  visits: ["visits", "now"],
  machines: ["machines", "codes"],
  proposals: ["proposals"],
  vault: ["machines"],
  settings: ["settings", "me"],
};

/** At most so often is looked again: one session that begins and ends is told in several changes. */
const PAUSE = 1000;

/** Keeps what is shown up to date while the page is open. */
export function useUpdates() {
  const queries = useQueryClient();
  let source: EventSource | undefined;
  const stale = new Set<string>();
  let everything = false;
  let looked = 0;
  let waiting: ReturnType<typeof setTimeout> | undefined;
  function look() {
    waiting = undefined;
    looked = Date.now();
    if (everything) void queries.invalidateQueries();
    else for (const key of stale) void queries.invalidateQueries({ queryKey: [key] });
    everything = false;
    stale.clear();
  }
  function open() {
    source = new EventSource("/api/v1/updates");
    // What changed between the first look and now, or while the connection was lost, was told to nobody here.
    source.addEventListener("open", () => void queries.invalidateQueries());
    source.addEventListener("change", (event) => {
      const keys = CONCERNS[(event as MessageEvent<string>).data];
      if (keys) keys.forEach((key) => stale.add(key));
      else everything = true;
      // The first change counts at once, those that follow together.
      waiting ??= setTimeout(look, Math.max(0, looked + PAUSE - Date.now()));
    });
  }
  // A page that was left may be kept by the browser, and its connection with it: six of them are all that it opens to one
  // service, and then every further call would wait.
  function close() {
    source?.close();
    clearTimeout(waiting);
    waiting = undefined;
  }
  function back(event: PageTransitionEvent) {
    if (!event.persisted) return;
    open();
    void queries.invalidateQueries();
  }
  open();
  window.addEventListener("pagehide", close);
  window.addEventListener("pageshow", back);
  onUnmounted(() => {
    close();
    window.removeEventListener("pagehide", close);
    window.removeEventListener("pageshow", back);
  });
}

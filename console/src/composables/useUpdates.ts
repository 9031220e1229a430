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
  machines: ["machines", "codes"],
  vault: ["machines"],
  settings: ["settings", "me"],
};

/** Keeps what is shown up to date while the page is open. */
export function useUpdates() {
  const queries = useQueryClient();
  let source: EventSource | undefined;
  function open() {
    source = new EventSource("/api/v1/updates");
    // What changed between the first look and now, or while the connection was lost, was told to nobody here.
    source.addEventListener("open", () => void queries.invalidateQueries());
    source.addEventListener("change", (event) => {
      const keys = CONCERNS[(event as MessageEvent<string>).data];
      if (!keys) void queries.invalidateQueries();
      else for (const key of keys) void queries.invalidateQueries({ queryKey: [key] });
    });
  }
  // A page that was left may be kept by the browser, and its connection with it: six of them are all that it opens to one
  // service, and then every further call would wait.
  function close() {
    source?.close();
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

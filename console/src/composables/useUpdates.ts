import { useQueryClient } from "@tanstack/vue-query";
import { onUnmounted } from "vue";

/** Which queries look stale when a kind of thing changes. */
const CONCERNS: Record<string, string[]> = {
  sessions: ["sessions", "session", "now", "strips"],
  findings: ["findings", "finding", "now", "strips"],
  log: ["log"],
  rules: ["strips", "policy", "drafts", "draft", "reach", "versions", "why"],
  reviews: ["reviews", "review"],
};

/** Keeps what is shown up to date while the page is open. */
export function useUpdates() {
  const queries = useQueryClient();
  const source = new EventSource("/api/v1/updates");
  source.addEventListener("change", (event) => {
    const keys = CONCERNS[(event as MessageEvent<string>).data];
    if (!keys) void queries.invalidateQueries();
    else for (const key of keys) void queries.invalidateQueries({ queryKey: [key] });
  });
  onUnmounted(() => source.close());
}

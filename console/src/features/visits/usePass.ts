import { ref } from "vue";
import type { VisitPass } from "../../api/client";

/** The way into one's own visit, kept while the window is open: a page that is loaded again goes on. */
export function usePass(name: string) {
  const key = `visit ${name}`;
  const kept = sessionStorage.getItem(key);
  const pass = ref<VisitPass | undefined>(kept ? (JSON.parse(kept) as VisitPass) : undefined);
  function keep(given: VisitPass) {
    sessionStorage.setItem(key, JSON.stringify(given));
    pass.value = given;
  }
  return { pass, keep };
}

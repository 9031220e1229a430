import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";

/** What a list is narrowed to. It is in the address, so that it can be kept and sent on; `text` is what stands in the field. */
export function useFilter<K extends string>(...names: ("q" | K)[]) {
  const route = useRoute();
  const router = useRouter();
  const param = (name: string) => (typeof route.query[name] === "string" ? (route.query[name] as string) : "");
  const filter = computed(() => Object.fromEntries(names.map((n) => [n, param(n)])) as Record<"q" | K, string>);
  const text = ref(filter.value.q);
  watch(filter, (f) => (text.value = f.q));
  function narrow(change: Partial<Record<"q" | K, string>>) {
    const all = Object.entries({ ...filter.value, ...change }).filter(([, v]) => v);
    void router.replace({ query: Object.fromEntries(all) as Record<string, string> });
  }
  const narrowed = computed(() => Object.values(filter.value).some(Boolean));
  return { filter, text, narrow, narrowed };
}

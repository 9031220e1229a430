import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, unwrap } from "../api/client";

/** Who is signed in, and what they may see. */
export function useMe() {
  const query = useQuery({ queryKey: ["me"], queryFn: async () => unwrap(await api.GET("/api/v1/me")) });
  const readsAll = computed(
    () => query.data.value?.roles.some((r) => r === "administrator" || r === "auditor") ?? false,
  );
  const administers = computed(() => query.data.value?.roles.includes("administrator") ?? false);
  return { ...query, readsAll, administers };
}

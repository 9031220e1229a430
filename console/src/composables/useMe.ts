import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, unwrap } from "../api/client";

/** Who is signed in, and what they may see. */
export function useMe() {
  const query = useQuery({ queryKey: ["me"], queryFn: async () => unwrap(await api.GET("/api/v1/me")) });
  const may = (act: string) => query.data.value?.may.includes(act) ?? false;
  const readsAll = computed(() => may("read-everything"));
  const administers = computed(() => may("manage-service"));
  return { ...query, may, readsAll, administers };
}

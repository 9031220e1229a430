import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, unwrap } from "../api/client";
import { useMe } from "./useMe";

/** How things stand, and the zone in which times are told. */
export function useNow() {
  const { readsAll } = useMe();
  const query = useQuery({
    queryKey: ["now"],
    queryFn: async () => unwrap(await api.GET("/api/v1/now")),
    enabled: readsAll,
    refetchInterval: 60_000,
  });
  const zone = computed(() => query.data.value?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone);
  return { ...query, zone };
}

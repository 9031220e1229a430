import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { api, unwrap } from "../../api/client";

/** Ends a live session at once. */
export function useEndSession() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (id: string) => unwrap(await api.POST("/api/v1/sessions/{id}/end", { params: { path: { id } } })),
    onSettled: () => queries.invalidateQueries(),
  });
}

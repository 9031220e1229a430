import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed } from "vue";
import { useRouter } from "vue-router";
import { api, unwrap } from "../../api/client";

/** The rules in force. */
export function usePolicy() {
  return useQuery({ queryKey: ["policy"], queryFn: async () => unwrap(await api.GET("/api/v1/policy")) });
}

/** Drafts that are not published. */
export function useDrafts() {
  return useQuery({ queryKey: ["drafts"], queryFn: async () => unwrap(await api.GET("/api/v1/drafts")) });
}

/** Begins a draft, and goes to it. */
export function useBeginDraft() {
  const router = useRouter();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (given: { title: string; text?: string }) =>
      unwrap(await api.POST("/api/v1/drafts", { body: { title: given.title, text: given.text ?? null, base: null } })),
    onSuccess: (draft) => {
      void queries.invalidateQueries({ queryKey: ["drafts"] });
      void router.push(`/rules/drafts/${draft.id}`);
    },
  });
}

/** Selectors to choose from: groups, organisations, people; sites, groups, labels, machines. */
export function useSelectors() {
  const people = useQuery({
    queryKey: ["people", "to choose from"],
    queryFn: async () => unwrap(await api.GET("/api/v1/people", { params: { query: { limit: 500 } } })).items,
  });
  const machines = useQuery({
    queryKey: ["machines", "names"],
    queryFn: async () => unwrap(await api.GET("/api/v1/machines", { params: { query: { limit: 500 } } })).machines,
  });
  const sorted = (all: Iterable<string>) => [...new Set(all)].sort();
  const MOST = 500;
  return {
    people: computed(() => {
      const all = people.data.value ?? [];
      return [
        "*",
        ...sorted(all.flatMap((p) => p.groups.map((g) => `group:${g}`))),
        ...sorted(all.slice(0, MOST).map((p) => `person:${p.name}`)),
      ];
    }),
    machines: computed(() => {
      const all = machines.data.value ?? [];
      return [
        "*",
        ...sorted(all.filter((m) => m.site).map((m) => `site=${m.site}`)),
        ...sorted(all.flatMap((m) => m.labels.map((l) => (l.includes("=") ? l : `label:${l}`)))),
        ...sorted(all.slice(0, MOST).map((m) => `name:${m.name}`)),
      ];
    }),
    personNames: computed(() => (people.data.value ?? []).map((p) => ({ name: p.name, full: p.full_name }))),
    machineNames: computed(() => (machines.data.value ?? []).map((m) => m.name)),
  };
}

import { useMutation } from "@tanstack/vue-query";
import { ref, type Ref } from "vue";
import { api, unwrap } from "../../api/client";

/** Inviting somebody into a live session, and who has the keyboard. */
export function useTakePart(session: Ref<string>) {
  const path = () => ({ path: { id: session.value } });
  const whom = ref("");
  const control = ref(false);
  const invite = useMutation({
    mutationFn: async () =>
      unwrap(
        await api.POST("/api/v1/sessions/{id}/guests", {
          params: path(),
          body: { person: whom.value.trim(), control: control.value },
        }),
      ),
    onSuccess: () => (whom.value = ""),
  });
  const keyboard = useMutation({
    mutationFn: async (to: string | null) =>
      unwrap(await api.POST("/api/v1/sessions/{id}/keyboard", { params: path(), body: { to } })),
  });
  return { whom, control, invite, keyboard };
}

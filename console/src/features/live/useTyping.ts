import type { Ref } from "vue";
import { api } from "../../api/client";

/** Types into the terminals of a live session: each piece waits for the one before, so that they come in their order. */
export function useTyping(session: Ref<string>) {
  let before: Promise<unknown> = Promise.resolve();
  return (channel: number, text: string) => {
    const params = { path: { id: session.value } };
    const send = () => api.POST("/api/v1/sessions/{id}/typed", { params, body: { channel, text } });
    before = before.then(send, send);
  };
}

import { useQueryClient } from "@tanstack/vue-query";
import { readonly, ref } from "vue";
import { ApiError, api, unwrap } from "../api/client";
import { proveCredential } from "../lib/webauthn";

/** What waits for a recent proof; the dialog in the frame asks for it. */
const waiting = ref<{ resolve: () => void; reject: (why: unknown) => void } | null>(null);

/** Does something; where the service wants a recent proof, asks for one and does it again. */
export async function proven<T>(work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (!(error instanceof ApiError) || error.code !== "prove-again") throw error;
    await new Promise<void>((resolve, reject) => {
      waiting.value?.reject(error);
      waiting.value = { resolve, reject: () => reject(error) };
    });
    return await work();
  }
}

/** For the dialog that asks for the proof, and for the second step of signing in. */
export function useProve() {
  const queries = useQueryClient();
  async function byCode(code: string) {
    const me = unwrap(await api.POST("/api/v1/step-up/code", { body: { code: code.trim() } }));
    queries.setQueryData(["me"], me);
    return me;
  }
  async function byAuthenticator(kind: "passkey" | "security-key") {
    const question = unwrap(await api.POST("/api/v1/step-up/question", { body: { kind } }));
    const credential = await proveCredential(question.options);
    const body = { challenge: question.challenge, credential, token: false };
    const me = unwrap(await api.POST("/api/v1/step-up/answer", { body }));
    queries.setQueryData(["me"], me);
    return me;
  }
  function done() {
    waiting.value?.resolve();
    waiting.value = null;
  }
  function cancel() {
    waiting.value?.reject(null);
    waiting.value = null;
  }
  return { waiting: readonly(waiting), byCode, byAuthenticator, done, cancel };
}

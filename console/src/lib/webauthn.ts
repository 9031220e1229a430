/** Passkeys and security keys, as the API and the browser speak of them: binary values are base64url in one and buffers in the other. */

type Json = Record<string, unknown>;

export function fromBase64url(text: string): ArrayBuffer {
  const plain = atob(text.replace(/-/g, "+").replace(/_/g, "/"));
  const bytes = new Uint8Array(new ArrayBuffer(plain.length));
  for (let i = 0; i < plain.length; i += 1) bytes[i] = plain.charCodeAt(i);
  return bytes.buffer;
}

export function toBase64url(buffer: ArrayBuffer): string {
  const text = String.fromCharCode(...new Uint8Array(buffer));
  return btoa(text).replace(/\+/g, "-").replace(/\//g, "_").replace(/=+$/, "");
}

function descriptors(list: unknown): PublicKeyCredentialDescriptor[] {
  const all = Array.isArray(list) ? (list as Json[]) : [];
  return all.map(
    (d) => ({ ...d, id: fromBase64url(String(d.id)), type: "public-key" }) as PublicKeyCredentialDescriptor,
  );
}

/** Whether the browser has passkeys here: it needs a secure place, and a name instead of a number. */
export function hasPasskeys(): boolean {
  return "PublicKeyCredential" in window && window.isSecureContext;
}

/** Asks the authenticator to make a credential. */
export async function createCredential(options: Json): Promise<Json> {
  const user = options.user as Json;
  const publicKey = {
    ...options,
    challenge: fromBase64url(String(options.challenge)),
    user: { ...user, id: fromBase64url(String(user.id)) },
    excludeCredentials: descriptors(options.excludeCredentials),
  } as unknown as PublicKeyCredentialCreationOptions;
  const made = (await navigator.credentials.create({ publicKey })) as PublicKeyCredential;
  const response = made.response as AuthenticatorAttestationResponse;
  return {
    id: made.id,
    rawId: toBase64url(made.rawId),
    type: made.type,
    extensions: {},
    response: {
      attestationObject: toBase64url(response.attestationObject),
      clientDataJSON: toBase64url(response.clientDataJSON),
    },
  };
}

/** Asks the authenticator to prove a credential. */
export async function proveCredential(options: Json): Promise<Json> {
  const publicKey = {
    ...options,
    challenge: fromBase64url(String(options.challenge)),
    allowCredentials: descriptors(options.allowCredentials),
  } as unknown as PublicKeyCredentialRequestOptions;
  const given = (await navigator.credentials.get({ publicKey })) as PublicKeyCredential;
  const response = given.response as AuthenticatorAssertionResponse;
  return {
    id: given.id,
    rawId: toBase64url(given.rawId),
    type: given.type,
    extensions: {},
    response: {
      authenticatorData: toBase64url(response.authenticatorData),
      clientDataJSON: toBase64url(response.clientDataJSON),
      signature: toBase64url(response.signature),
      userHandle: response.userHandle ? toBase64url(response.userHandle) : null,
    },
  };
}

/** What went wrong with an authenticator, for whoever sits there. */
export function authenticatorProblem(error: unknown): string | null {
  if (!(error instanceof DOMException)) return null;
  if (error.name === "NotAllowedError") return "Nothing was proved: it was cancelled, or took too long. Try again.";
  if (error.name === "InvalidStateError") return "This authenticator is enrolled already.";
  if (error.name === "SecurityError") return "Passkeys do not work at this address: open the console by its name.";
  return `The authenticator failed (${error.name}).`;
}

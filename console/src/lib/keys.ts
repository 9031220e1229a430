/** A fingerprint as it stands in a path: without `SHA256:`, in base64url. */
export const inPath = (fingerprint: string) =>
  fingerprint.replace("SHA256:", "").replace(/\+/g, "-").replace(/\//g, "_");

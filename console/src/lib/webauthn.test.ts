import { describe, expect, it } from "vitest";
import { authenticatorProblem, fromBase64url, toBase64url } from "./webauthn";

describe("base64url", () => {
  it("brings back every byte, without padding and without signs that a URL has another use for", () => {
    const bytes = Uint8Array.from({ length: 256 }, (_, i) => i);
    const text = toBase64url(bytes.buffer);
    expect(text).not.toMatch(/[+/=]/);
    expect([...new Uint8Array(fromBase64url(text))]).toEqual([...bytes]);
  });
});

describe("problems of authenticators", () => {
  it("are told in words, and other errors are left to others", () => {
    expect(authenticatorProblem(new DOMException("", "NotAllowedError"))).toContain("cancelled");
    expect(authenticatorProblem(new DOMException("", "InvalidStateError"))).toContain("already");
    expect(authenticatorProblem(new Error("x"))).toBeNull();
  });
});

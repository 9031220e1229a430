import { flushPromises } from "@vue/test-utils";
import { describe, expect, it, vi } from "vitest";
import { ApiError } from "../api/client";
import ProveDialog from "../ui/ProveDialog.vue";
import { eventually, show, within } from "../testing/page";
import { lena, problem, serve } from "../testing/service";
import { proven, useProve } from "./useProve";

const again = () => new ApiError(403, "Prove it", "Prove again that it is you.", [], "prove-again");

describe("what wants a recent proof", () => {
  it("goes on by itself once the proof is there", async () => {
    const { it: prove } = await within(useProve);
    const work = vi.fn().mockRejectedValueOnce(again()).mockResolvedValue("done");
    const done = proven(work);
    await flushPromises();
    expect(prove.waiting.value).not.toBeNull();
    prove.done();
    expect(await done).toBe("done");
    expect([work.mock.calls.length, prove.waiting.value]).toEqual([2, null]);
  });

  it("is not done where the proof is not given, and says what the service said", async () => {
    const { it: prove } = await within(useProve);
    const work = vi.fn().mockRejectedValue(again());
    const done = proven(work);
    await flushPromises();
    prove.cancel();
    await expect(done).rejects.toThrow("Prove again that it is you.");
    expect(work).toHaveBeenCalledTimes(1);
  });

  it("is asked for once at a time: what waited before is given up", async () => {
    const { it: prove } = await within(useProve);
    const [one, two] = [
      vi.fn().mockRejectedValue(again()),
      vi.fn().mockRejectedValueOnce(again()).mockResolvedValue(2),
    ];
    const first = proven(one);
    await flushPromises();
    const second = proven(two);
    await expect(first).rejects.toThrow("Prove again");
    prove.done();
    expect(await second).toBe(2);
  });

  it("is left alone where something else failed", async () => {
    const other = new ApiError(409, "Conflict", "Somebody else changed it.", [], "conflict");
    await expect(proven(() => Promise.reject(other))).rejects.toBe(other);
  });

  it("is asked for in a dialogue, with what was wrong about a code", async () => {
    const calls = serve({
      "GET /me": { body: { ...lena, wanted: ["code"] } },
      "POST /step-up/code": (_, body) =>
        (body as { code: string }).code === "123456"
          ? { body: lena }
          : problem(401, "sign-in-failed", "This code is not right, or it was used already."),
    });
    await show(ProveDialog);
    const done = proven(vi.fn().mockRejectedValueOnce(again()).mockResolvedValue("done"));
    await flushPromises();
    const dialog = () => document.querySelector("[role=dialog]")!;
    const enter = async (code: string) => {
      const field = dialog().querySelector<HTMLInputElement>("input[name=code]")!;
      field.value = code;
      field.dispatchEvent(new Event("input"));
      await flushPromises();
      dialog().querySelector("form")!.dispatchEvent(new Event("submit"));
      await flushPromises();
    };
    await enter("000000");
    await eventually(() => expect(dialog().textContent).toContain("it was used already"));
    expect(dialog().querySelector<HTMLInputElement>("input[name=code]")!.value).toBe("");
    await enter(" 123456 ");
    expect(await done).toBe("done");
    expect(calls.filter((c) => c.method === "POST").map((c) => c.body)).toEqual([
      { code: "000000" },
      { code: "123456" },
    ]);
    await flushPromises();
    expect(document.querySelector("[role=dialog]")).toBeNull();
  });
});

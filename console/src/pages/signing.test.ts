import { flushPromises, type VueWrapper } from "@vue/test-utils";
import { describe, expect, it } from "vitest";
import { router } from "../router";
import { eventually, visit as at } from "../testing/page";
import { lena, problem, serve, type Answer, type Call } from "../testing/service";

let calls: Call[] = [];
async function open(path: string, answers: Record<string, Answer | ((path: string, body: unknown) => Answer)>) {
  const welcome = { banner: "For the staff of the observatory.", passkeys: false, empty: false };
  calls = serve({ "GET /welcome": { body: welcome }, ...answers });
  const { page, router: here } = await at(router.options.routes, path);
  await flushPromises();
  return { page, at: () => here.currentRoute.value.fullPath };
}
async function signIn(page: VueWrapper) {
  await page.get("input[name=person]").setValue(" lena ");
  await page.get("input[name=password]").setValue("a long one");
  await page.get("form").trigger("submit");
  await flushPromises();
}

describe("signing in", () => {
  it.each([
    ["/sign-in", lena, "/"],
    ["/sign-in", { ...lena, may: [] }, "/sessions"],
    ["/sign-in", { ...lena, stage: "enrolling" }, "/account"],
    ["/sign-in?to=/machines/dome-east", lena, "/machines/dome-east"],
    // Nobody is sent out of the console.
    ["/sign-in?to=https://elsewhere.example", lena, "/"],
    ["/sign-in?to=//elsewhere.example", lena, "/"],
    ["/sign-in?to=/%5Celsewhere.example", lena, "/"],
  ])("at %s leads on", async (path, me, to) => {
    const { page, at: here } = await open(path, { "POST /sign-in": { body: me } });
    expect(page.get("[data-testid=banner]").text()).toBe("For the staff of the observatory.");
    await signIn(page);
    await eventually(() => expect(here()).toBe(to));
    expect(calls.find((c) => c.path === "/sign-in")!.body).toEqual({
      person: "lena",
      password: "a long one",
      code: "",
      token: false,
    });
  });

  it("asks for the second factor after the password, and goes on from there", async () => {
    const { page, at: here } = await open("/sign-in", {
      "POST /sign-in": { body: { ...lena, stage: "proving", wanted: ["code"] } },
      "POST /step-up/code": (_, body) =>
        (body as { code: string }).code === "abcd-efgh"
          ? { body: lena }
          : problem(401, "sign-in-failed", "This code is not right."),
    });
    await signIn(page);
    expect(page.get("h1").text()).toBe("One more proof");
    // The password is kept nowhere once it was right.
    expect(page.find("input[type=password]").exists()).toBe(false);
    await page.get("input[name=code]").setValue("123456");
    await page.get("form").trigger("submit");
    await eventually(() => expect(page.text()).toContain("This code is not right."));
    await page.get("[data-testid=recover]").trigger("click");
    expect(page.text()).toContain("One of those that you printed");
    await page.get("input[name=code]").setValue("abcd-efgh");
    await page.get("form").trigger("submit");
    await eventually(() => expect(here()).toBe("/"));
  });

  it("says what was wrong in the service's words, and how long to wait", async () => {
    const { page, at: here } = await open("/sign-in", {
      "POST /sign-in": problem(429, "wait", "Try again in 20 seconds."),
    });
    await signIn(page);
    await eventually(() => expect(page.get("[role=alert]").text()).toBe("Try again in 20 seconds."));
    expect(here()).toBe("/sign-in");
    expect(page.get("button").attributes("disabled")).toBeUndefined();
  });
});

describe("an invitation", () => {
  const facts = { person: "ines", full_name: "Ines Okafor", by: "lena", password_length: 12 };
  async function invited(answers: Record<string, Answer>) {
    location.hash = "#a-secret";
    return open("/welcome", answers);
  }

  it("is opened with the secret behind the hash, which is taken out of the address", async () => {
    const { page } = await invited({ "POST /invitations/open": { body: facts } });
    expect(calls.find((c) => c.path === "/invitations/open")!.body).toEqual({ secret: "a-secret" });
    expect(location.hash).toBe("");
    expect(page.get("h1").text()).toBe("Welcome, Ines Okafor");
    expect(page.find("input[name=person]").exists()).toBe(false);
    expect(page.text()).toContain("At least 12 characters");
  });

  it("sets a password, and leads to the account", async () => {
    const { page, at: here } = await invited({
      "POST /invitations/open": { body: facts },
      "POST /invitations/take": { body: { ...lena, stage: "enrolling" } },
    });
    await page.get("input[name=password]").setValue("four words of no sense");
    await page.get("form").trigger("submit");
    await eventually(() => expect(here()).toBe("/account"));
    const taken = calls.find((c) => c.path === "/invitations/take")!.body;
    expect(taken).toEqual({
      secret: "a-secret",
      password: "four words of no sense",
      person: null,
      full_name: null,
      token: false,
    });
  });

  it("that is over says so, and asks for nothing", async () => {
    const { page } = await invited({
      "POST /invitations/open": problem(404, "not-found", "This link is good no longer."),
    });
    await eventually(() => expect(page.get("[role=alert]").text()).toBe("This link is good no longer."));
    expect(page.find("form").exists()).toBe(false);
  });
});

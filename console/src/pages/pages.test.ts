import { flushPromises, type VueWrapper } from "@vue/test-utils";
import { beforeEach, describe, expect, it, vi } from "vitest";
import { router } from "../router";
import { eventually, visit } from "../testing/page";
import { lena, problem, serve } from "../testing/service";
import { FakeSocket } from "../testing/socket";

/** Every page of the console, at an address that has one. */
const pages = router
  .getRoutes()
  .filter((r) => !r.path.includes("rest"))
  .map((r) => r.path.replace(/:(\w+)\?/, "$1").replace(/:(\w+)/g, "$1"))
  .sort();
/** Those that ask the service for nothing before somebody does something, or talk with it over a WebSocket. */
const QUIET = ["/help/queue", "/visit/id", "/machines/name/desktop", "/sessions/id/desktop", "/sign-in"];

/** What a page's first sentence says of how things stand, which it cannot know while the service has not said anything. */
const claim = (page: VueWrapper) => {
  const first = page.find("h1");
  return first.exists() && /\.$/.test(first.text()) && !/^(Who there is|Everything that happened)/.test(first.text())
    ? first.text()
    : "";
};

beforeEach(() => {
  FakeSocket.install();
  vi.stubGlobal(
    "EventSource",
    class {
      close() {}
      addEventListener() {}
    },
  );
});

describe("every page", () => {
  it("is looked at here", () => expect(pages.length).toBeGreaterThan(30));

  it.each(pages)("%s says that something is on its way, and is not blank", async (path) => {
    serve({ "GET /me": { body: lena } }, "never");
    const { page } = await visit(router.options.routes, path);
    await vi.dynamicImportSettled();
    await flushPromises();
    expect(page.text()).not.toBe("");
    expect(claim(page)).toBe("");
  });

  it.each(pages.filter((p) => !QUIET.includes(p)))("%s says why there is nothing, and nothing breaks", async (path) => {
    const failed = vi.spyOn(console, "warn");
    serve(
      { "GET /me": { body: lena } },
      problem(503, "unready", "The archive disk is full.", "The service is not ready"),
    );
    const { page } = await visit(router.options.routes, path);
    await eventually(async () => {
      await flushPromises();
      expect(page.text()).toContain("The archive disk is full.");
    });
    expect(page.find("[role=alert]").exists()).toBe(true);
    expect(claim(page)).toBe("");
    expect(failed).not.toHaveBeenCalled();
  });
});

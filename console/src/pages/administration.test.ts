import { flushPromises, type VueWrapper } from "@vue/test-utils";
import { describe, expect, it } from "vitest";
import { router } from "../router";
import { eventually, visit as at } from "../testing/page";
import { lena, problem, serve, type Answer, type Call } from "../testing/service";

let calls: Call[] = [];
const serving = (all: Record<string, Answer | ((path: string, body: unknown) => Answer)>) =>
  void (calls = serve({ "GET /me": { body: lena }, ...all }));
const sent = () => calls.filter((c) => c.method !== "GET").map((c) => [c.method, c.path, c.body]);
const press = async (page: VueWrapper, label: string) => {
  await page.get(`button[aria-label="${label}"]`).trigger("click");
  await flushPromises();
};

describe("settings", () => {
  const setting = (change: object) => ({
    name: "pin-life",
    value: "10",
    default: "10",
    kind: "number",
    about: "Minutes.",
    ...change,
  });
  const open = async (more: Record<string, Answer> = {}) => {
    const all = [
      setting({}),
      setting({ name: "lift-alone", value: "no", default: "yes", kind: "flag" }),
      setting({ name: "banner", value: "", default: "", kind: "lines" }),
    ];
    serving({
      "GET /settings": { body: all },
      "GET /settings/changes": { body: [] },
      "GET /keys": { body: [] },
      ...more,
    });
    const { page } = await at(router.options.routes, "/settings");
    await flushPromises();
    return page;
  };

  it("say in the first line how many are not as they came", async () => {
    expect((await open()).get("h1").text()).toBe("1 of 3 settings differs from the default.");
  });

  it("are changed with a reason, by a field of their kind", async () => {
    const page = await open({ "PUT /settings/lift-alone": { body: {} } });
    await press(page, "Change lift-alone");
    expect(page.get<HTMLSelectElement>("select[name=value]").element.value).toBe("no");
    await page.get("select[name=value]").setValue("yes");
    await page.get("input[name=why]").setValue("One of us is away.");
    await page.get("form").trigger("submit");
    await flushPromises();
    expect(sent()).toEqual([["PUT", "/settings/lift-alone", { value: "yes", why: "One of us is away." }]]);
    expect(page.find("form").exists()).toBe(false);
    await press(page, "Change banner");
    expect(page.find("textarea[name=value]").exists()).toBe(true);
  });

  it("say what was wrong with one of that one alone", async () => {
    const page = await open({ "PUT /settings/pin-life": problem(422, "not-good", "From 1 to 60.") });
    await press(page, "Change pin-life");
    await page.get("input[name=value]").setValue("99");
    await page.get("form").trigger("submit");
    await eventually(() => expect(page.text()).toContain("From 1 to 60."));
    expect(page.get<HTMLInputElement>("input[name=value]").element.value).toBe("99");
    await press(page, "Change banner");
    expect(page.text()).not.toContain("From 1 to 60.");
  });
});

describe("machines", () => {
  const machine = (name: string, change: object = {}) => ({
    name,
    site: "ridge",
    state: "online",
    via: "agent",
    system: "Debian 12",
    users: [],
    note: "",
    live: 0,
    favourite: false,
    recent: false,
    labels: [],
    ...change,
  });
  const list = (machines: object[], next?: string) => ({
    sentence: "2 machines are there.",
    machines,
    next,
    sites: ["ridge", "valley"],
  });
  const open = async (path: string, more: Record<string, Answer | ((path: string, body: unknown) => Answer)> = {}) => {
    serving({
      "GET /machines": { body: list([machine("dome-east"), machine("pier", { favourite: true })]) },
      "GET /enrolment-codes": { body: [] },
      ...more,
    });
    const { page, router: here } = await at(router.options.routes, path);
    await flushPromises();
    return { page, here };
  };

  it("are looked for by letters, state and site, all in the address", async () => {
    const { page, here } = await open("/machines?state=online");
    expect(calls.find((c) => c.path === "/machines")!.query).toEqual({ state: "online" });
    await page.get("[data-testid=find-machines]").setValue(" dome ");
    await eventually(() => expect(calls.at(-1)!.query).toEqual({ q: "dome", state: "online" }));
    expect(here.currentRoute.value.fullPath).toBe("/machines?q=dome&state=online");
    expect(page.findAll("[data-testid=machine-row]")).toHaveLength(2);
  });

  it("are favourites at a click, and no longer at another", async () => {
    const { page } = await open("/machines", {
      "PUT /machines/dome-east/favourite": { status: 204 },
      "DELETE /machines/pier/favourite": { status: 204 },
    });
    await press(page, "dome-east is a favourite");
    await press(page, "pier is a favourite");
    expect(sent().map((s) => s.slice(0, 2))).toEqual([
      ["PUT", "/machines/dome-east/favourite"],
      ["DELETE", "/machines/pier/favourite"],
    ]);
    expect(page.get('button[aria-label="pier is a favourite"]').attributes("aria-pressed")).toBe("true");
  });

  it("come page after page", async () => {
    const pages: Record<string, object> = { "": list([machine("a")], "a"), a: list([machine("b")]) };
    let asked = "";
    const { page } = await open("/machines", {
      "GET /machines": () => ({ body: pages[(asked = calls.at(-1)!.query.after ?? "")]! }),
    });
    await page
      .findAll("button")
      .find((b) => b.text() === "Show more")!
      .trigger("click");
    await flushPromises();
    expect(asked).toBe("a");
    expect(page.findAll("[data-testid=machine-row]")).toHaveLength(2);
    expect(page.text()).not.toContain("Show more");
  });

  it("are registered with what is known of them, and shown at once", async () => {
    const { page, here } = await open("/machines", { "POST /machines": { body: machine("mast-2") } });
    await page.get("[data-testid=add-machine]").trigger("click");
    await page.get("input[name=machine-name]").setValue(" mast-2 ");
    await page.get("select[name=machine-via]").setValue("direct");
    await page.get("input[name=machine-labels]").setValue("weather, tier=1");
    await page.get("form").trigger("submit");
    await eventually(() => expect(here.currentRoute.value.path).toBe("/machines/mast-2"));
    const about = {
      via: "direct",
      address: "",
      site: "",
      owner: "",
      labels: ["weather", "tier=1"],
      accounts: [],
      note: "",
    };
    expect(sent()).toEqual([["POST", "/machines", { name: "mast-2", about }]]);
  });

  it("of a site enrol with a code that is shown, and those that are out can be withdrawn", async () => {
    const out = [
      { id: "c1", machine: null, site: "valley", uses_left: 3, made_by: "lena", expires: "2026-11-24T21:00:00Z" },
    ];
    const { page } = await open("/machines", {
      "GET /enrolment-codes": { body: out },
      "POST /enrolment-codes": problem(422, "not-good", "There is no such site."),
      "DELETE /enrolment-codes/c1": { status: 204 },
    });
    expect(page.get("[aria-label='Codes that are good']").text()).toContain(
      "A code for 3 of the site valley is out, issued by lena",
    );
    await press(page, "Withdraw the code for valley");
    await page.get("[data-testid=site-code]").trigger("click");
    await page.get("input[name=code-site]").setValue("ridge");
    await page.get("input[name=code-uses]").setValue("4");
    await page.get("form").trigger("submit");
    await eventually(() => expect(page.text()).toContain("There is no such site."));
    expect(sent()).toEqual([
      ["DELETE", "/enrolment-codes/c1", ""],
      ["POST", "/enrolment-codes", { site: "ridge", uses: 4, labels: [] }],
    ]);
  });
});

describe("people", () => {
  it("are found in the address, and added with groups as people write them", async () => {
    const ines = {
      name: "ines",
      full_name: "Ines Okafor",
      organisation: "",
      groups: ["night"],
      roles: ["technician"],
      factors: ["passkey"],
      keys: 2,
      standing: "good",
    };
    serving({
      "GET /people": { body: { items: [ines, { ...ines, name: "bo", factors: [], keys: 0 }] } },
      "POST /people": { body: { person: { name: "noa" } } },
    });
    const { page, router: here } = await at(router.options.routes, "/people?role=technician");
    await flushPromises();
    expect(page.get("h1").text()).toBe("2 people are found.");
    const rows = page.findAll("[data-testid=person-row]").map((r) => r.text());
    expect(rows[0]).toContain("passkey, 2 SSH keys");
    expect(rows[1]).toContain("nothing yet");
    await page.get("[data-testid=add-person]").trigger("click");
    await page.get("input[name=new-name]").setValue("noa");
    await page.get("input[name=new-groups]").setValue("night,day  dome");
    await page.get("form").trigger("submit");
    await eventually(() => expect(here.currentRoute.value.path).toBe("/people/noa"));
    expect(sent()[0]![2]).toMatchObject({ name: "noa", groups: ["night", "day", "dome"], roles: ["technician"] });
  });
});

import { mount } from "@vue/test-utils";
import { describe, expect, it } from "vitest";
import { ApiError, unwrap } from "../../api/client";
import type { Finding, LogEvent, Session } from "../../api/client";
import StateNote from "../../ui/StateNote.vue";
import EventList from "./EventList.vue";
import SessionTable from "./SessionTable.vue";

const global = { stubs: { RouterLink: { props: ["to"], template: "<a><slot /></a>" } } };
const session = (change: Partial<Session>): Session => ({
  id: "a",
  sentence: "",
  person: "ines",
  person_name: "Ines Okafor",
  machine: "dome-east",
  account: "operator",
  source: "10.20.4.7",
  began: "2026-11-22T20:18:00Z",
  seconds: 9660,
  uses: ["shell", "download"],
  factors: ["key", "code"],
  rule: "night-dome",
  rule_line: 10,
  policy_version: 1,
  recorded: true,
  length_ms: 1,
  bytes_out: 1,
  bytes_in: 1,
  findings: 0,
  ...change,
});

describe("the table of sessions", () => {
  it("says in words what each session is", () => {
    const sessions = [
      session({ ended: "2026-11-22T22:59:00Z", end_reason: "because the person left", digest: "d" }),
      session({ id: "b" }),
    ];
    const rows = mount(SessionTable, { props: { sessions, zone: "UTC" }, global }).findAll("tbody tr");
    expect(rows[0]!.text()).toContain("2 h 41 min");
    expect(rows[0]!.text()).toContain("shell, download");
    expect(rows[0]!.text()).toContain("the person left");
    expect(rows[0]!.text()).toContain("kept");
    expect(rows[1]!.text()).toContain("live");
    expect(rows[1]!.text()).toContain("running");
  });
  it("offers to end live sessions, and only to those who may", async () => {
    const sessions = [session({ ended: "2026-11-22T22:59:00Z" }), session({ id: "live" })];
    const may = mount(SessionTable, { props: { sessions, zone: "UTC", canEnd: true }, global });
    expect(may.findAll("button")).toHaveLength(1);
    await may.get("button").trigger("click");
    expect((may.emitted("end")![0]![0] as Session).id).toBe("live");
    expect(mount(SessionTable, { props: { sessions, zone: "UTC" }, global }).findAll("button")).toHaveLength(0);
  });
});

describe("what happened in a session", () => {
  const at = "2026-11-22T20:18:00Z";
  const event = (seq: number, sentence: string, kind = "decision"): LogEvent => ({
    seq,
    at,
    kind,
    actor: "ines",
    sentence,
  });
  const finding = { id: "f", last: at, sentence: "A key was added.", moment_ms: 1200 } as Finding;
  it("is told in the order of the log, findings behind what shows them", () => {
    const events = [event(2, "second"), event(1, "first"), event(3, "read", "recording-read")];
    const list = mount(EventList, { props: { events, findings: [finding], zone: "UTC" }, global });
    expect(list.findAll("li").map((l) => l.text().replace(/\s+/g, " "))).toEqual([
      "20:18:00first",
      "20:18:00second",
      "20:18:00Finding A key was added. Go there",
    ]);
  });
  it("leads to the moment", async () => {
    const list = mount(EventList, { props: { events: [], findings: [finding], zone: "UTC" }, global });
    await list.get("[data-testid=go-to-moment]").trigger("click");
    expect(list.emitted("go")![0]).toEqual([1200]);
  });
});

describe("where data will be", () => {
  it("an error says what to do and can be tried again", async () => {
    const note = mount(StateNote, { props: { error: new ApiError(403, "Not allowed", "Ask an administrator.") } });
    expect(note.attributes("role")).toBe("alert");
    expect(note.text()).toContain("Not allowed");
    expect(note.text()).toContain("Ask an administrator.");
    await note.get("button").trigger("click");
    expect(note.emitted("retry")).toHaveLength(1);
  });
  it("loading and nothing are told apart", () => {
    expect(mount(StateNote, { props: { loading: true } }).attributes("role")).toBe("status");
    expect(mount(StateNote, { props: { empty: "Nothing yet." } }).text()).toBe("Nothing yet.");
    expect(mount(StateNote, { props: { error: new TypeError("fetch failed") } }).text()).toContain("cannot be reached");
  });
});

describe("answers of the API", () => {
  const response = (status: number) => new Response(null, { status });
  it("give their data, or the problem that they are", () => {
    expect(unwrap({ data: 5, response: response(200) })).toBe(5);
    const error = { title: "Not found", detail: "There is no such session." };
    expect(() => unwrap({ error, response: response(404) })).toThrow("There is no such session.");
    expect(() => unwrap({ response: response(500) })).toThrow("The answer could not be read.");
  });
});

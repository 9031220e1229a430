import type { RuleCard } from "../../api/client";
import { words } from "../../lib/words";

export const CAPABILITIES = [
  "view",
  "control",
  "shell",
  "exec",
  "browse",
  "upload",
  "download",
  "clipboard-in",
  "clipboard-out",
  "forward",
  "processes",
  "services",
];

/** A rule as a form has it: what is empty is not said. */
export interface Form {
  effect: string;
  name: string;
  note: string;
  people: string;
  machines: string;
  capabilities: string[];
  accounts: string;
  targets: string;
  hours: string;
  from: string;
  first_day: string;
  last_day: string;
  key: boolean;
  code: boolean;
  reason: boolean;
  lock: boolean;
  recording: boolean;
  approval: string;
  ticket: string;
  session: string;
  idle: string;
}

export function blank(): Form {
  return {
    effect: "allow",
    name: "",
    note: "",
    people: "",
    machines: "",
    capabilities: [],
    accounts: "",
    targets: "",
    hours: "",
    from: "",
    first_day: "",
    last_day: "",
    key: false,
    code: false,
    reason: false,
    lock: false,
    recording: false,
    approval: "",
    ticket: "",
    session: "",
    idle: "",
  };
}

type Fields = Record<string, unknown>;
const text = (v: unknown) => (typeof v === "string" ? v : "");
const list = (v: unknown) =>
  Array.isArray(v) ? v.filter((x): x is string => typeof x === "string") : text(v) ? [text(v)] : [];
const table = (v: unknown): Fields => (v && typeof v === "object" && !Array.isArray(v) ? (v as Fields) : {});
const word = (factor: string) => factor.split(" ")[0]!;

/** The form of a rule as it is written. */
export function fromRule(rule: RuleCard): Form {
  const f = rule.fields as Fields;
  const factors = list(f.factors).map(word);
  return {
    ...blank(),
    effect: rule.effect,
    name: rule.name,
    note: text(f.note),
    people: text(f.people),
    machines: text(f.machines),
    capabilities: list(f.capabilities),
    accounts: list(f.accounts).join(" "),
    targets: list(f.targets).join(", "),
    hours: text(f.hours),
    from: list(f.from).join(", "),
    first_day: text(f.first_day),
    last_day: text(f.last_day),
    key: factors.includes("key"),
    code: factors.includes("code"),
    reason: f.reason === true,
    lock: f.lock === true,
    recording: f.recording === true || list(f.recording).length > 0,
    approval: text(f.approval) || text(table(f.approval).from),
    ticket: f.ticket === true ? "*" : text(f.ticket),
    session: text(table(f.limits).session),
    idle: text(table(f.limits).idle),
  };
}

/** The fields to be written: what the form has no place for stays as it is. */
export function fieldsOf(form: Form, rule?: RuleCard): Fields {
  const old = (rule?.fields ?? {}) as Fields;
  const some = (v: string) => (v.trim() === "" ? null : v.trim());
  const several = (v: string[]) => (v.length ? v : null);
  const fields: Fields = {
    name: form.name.trim(),
    note: some(form.note),
    people: some(form.people),
    machines: some(form.machines),
    capabilities: several(form.capabilities),
    accounts: several(words(form.accounts)),
    targets: form.capabilities.includes("forward") ? several(words(form.targets)) : null,
    hours: some(form.hours),
    from: several(words(form.from)),
    first_day: some(form.first_day),
    last_day: some(form.last_day),
  };
  if (form.effect === "allow" || form.effect === "require") {
    const kept = list(old.factors).filter((f) =>
      word(f) === "key" ? form.key : word(f) === "code" ? form.code : true,
    );
    const wanted = [form.key ? "key" : "", form.code ? "code" : ""].filter(
      (w) => w && !kept.some((k) => word(k) === w),
    );
    fields.factors = several([...kept, ...wanted]);
    fields.reason = form.reason || null;
    fields.lock = form.lock || null;
    const had = old.recording === true || list(old.recording).length > 0;
    fields.recording = form.recording ? (had ? old.recording : true) : null;
    const approval = table(old.approval);
    fields.approval =
      some(form.approval) && approval.from ? { ...approval, from: form.approval.trim() } : some(form.approval);
    fields.ticket = form.ticket.trim() === "*" ? true : some(form.ticket);
    const limits: Fields = { ...table(old.limits), session: some(form.session), idle: some(form.idle) };
    const set = Object.entries(limits).filter(([, v]) => v !== null && v !== undefined);
    fields.limits = set.length ? Object.fromEntries(set) : null;
  }
  // A new rule leaves out what is not said; a changed one removes it where it was said before.
  return Object.fromEntries(Object.entries(fields).filter(([k, v]) => v !== null || k in old));
}

/** What the form says so far, as a sentence. */
export function sentenceOf(form: Form): string {
  const who = form.people || "somebody";
  const where = form.machines || "some machines";
  const what = form.capabilities.length
    ? form.capabilities.join(", ")
    : form.effect === "allow"
      ? "nothing yet"
      : "everything";
  const ports = words(form.targets).join(", ");
  const to = form.capabilities.includes("forward") ? `, ports to ${ports || "the machine itself"}` : "";
  const when = form.hours ? ` in the hours ${form.hours}` : "";
  const accounts = form.accounts ? ` as ${words(form.accounts).join(" or ")}` : "";
  const verb = {
    allow: "may use",
    forbid: "may not use",
    require: "must meet the demands below for",
    never: "can never come to use",
  }[form.effect];
  return `${who} ${verb} ${what} on ${where}${accounts}${to}${when}.`;
}

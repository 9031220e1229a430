import { describe, expect, it } from "vitest";
import type { RuleCard } from "../../api/client";
import { blank, fieldsOf, fromRule, sentenceOf } from "./form";

const rule = (fields: Record<string, unknown>, effect = "allow"): RuleCard => ({
  name: String(fields.name),
  effect,
  line: 1,
  sentence: "",
  note: null,
  people: 1,
  machines: 1,
  fields: fields as RuleCard["fields"],
});

const FULL = {
  name: "night-dome",
  people: "group:night",
  machines: "label:dome",
  capabilities: ["shell"],
  accounts: ["operator", "root"],
  factors: ["key", "code within 15min", "passkey"],
  recording: ["terminal"],
  approval: { from: "group:owners", count: 2 },
  limits: { session: "4h", sessions: 2 },
  posture: ["managed"],
};

describe("the form of a rule", () => {
  it("gives back what it was made of, what it has no place for included", () => {
    const fields = fieldsOf(fromRule(rule(FULL)), rule(FULL));
    for (const key of ["factors", "recording", "approval", "limits", "accounts", "people"] as const)
      expect(fields[key]).toEqual(FULL[key]);
    expect("posture" in fields).toBe(false);
  });

  it("removes what is emptied, and leaves out what never was", () => {
    const form = { ...fromRule(rule(FULL)), code: false, session: "", approval: "", hours: "" };
    const fields = fieldsOf(form, rule(FULL));
    expect(fields.factors).toEqual(["key", "passkey"]);
    expect(fields.limits).toEqual({ sessions: 2 });
    expect(fields.approval).toBeNull();
    expect("hours" in fields).toBe(false);
  });

  it("writes a new rule of what is said", () => {
    const form = {
      ...blank(),
      name: "x",
      people: "*",
      machines: "site=ridge",
      capabilities: ["view"],
      accounts: "operator, root",
      key: true,
      ticket: "*",
    };
    expect(fieldsOf(form)).toEqual({
      name: "x",
      people: "*",
      machines: "site=ridge",
      capabilities: ["view"],
      accounts: ["operator", "root"],
      factors: ["key"],
      ticket: true,
    });
    expect(sentenceOf(form)).toBe("* may use view on site=ridge as operator or root.");
  });

  it("has targets where ports are forwarded, and removes them with the capability", () => {
    const written = rule({ ...FULL, capabilities: ["forward"], targets: ["localhost:5432", "10.20.0.0/16:443"] });
    const form = fromRule(written);
    expect(form.targets).toBe("localhost:5432, 10.20.0.0/16:443");
    expect(fieldsOf(form, written).targets).toEqual(["localhost:5432", "10.20.0.0/16:443"]);
    expect(sentenceOf(form)).toContain("ports to localhost:5432, 10.20.0.0/16:443");
    expect(sentenceOf({ ...form, targets: "" })).toContain("ports to the machine itself");
    expect(fieldsOf({ ...form, capabilities: ["shell"] }, written).targets).toBeNull();
  });

  it("says nothing of demands in a rule that forbids", () => {
    const form = { ...blank(), effect: "forbid", name: "x", people: "*", key: true };
    expect(fieldsOf(form)).toEqual({ name: "x", people: "*" });
  });
});

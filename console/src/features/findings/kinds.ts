/** What kinds of findings are called. A detection that has no name here is called as it is, with spaces. */
const KINDS: Record<string, string> = {
  "around-gateway": "Around the gateway",
  "outside-hours": "Outside the hours",
  "not-allowed": "Not allowed",
  "unmet-demand": "Demand not met",
  "unowned-account": "Nobody's account",
  "unknown-session": "Unknown session",
  "shared-key": "Key of several people",
  "unowned-key": "Nobody's key",
  "host-key-changed": "Another host key",
  "agent-cloned": "Copied agent",
  "credential-stuck": "Lost credential",
  "emergency-used": "Emergency",
  "log-gap": "Gap in a log",
  "log-cut": "Log cut",
  "recording-missing": "Missing recording",
  "recording-damaged": "Damaged recording",
  "log-altered": "Altered event log",
  "clock-off": "Clock off",
  "pin-spraying": "PINs sprayed",
  "source-silent": "Silent log",
  "log-not-understood": "Log not understood",
  "rule-withdrawn": "Rule withdrawn since",
};

export const kindName = (kind: string) => {
  const words = kind.replaceAll("-", " ");
  return KINDS[kind] ?? words.charAt(0).toUpperCase() + words.slice(1);
};

/** Kinds that need no detection. */
export const builtIn = Object.keys(KINDS);

export const STATES: Record<string, string> = {
  open: "Open",
  acknowledged: "Acknowledged",
  "in-work": "In work",
  resolved: "Resolved",
  accepted: "Accepted",
};

export const capital = (word: string) => word.charAt(0).toUpperCase() + word.slice(1);

-- Agents: one for a machine.
CREATE TABLE agents (
  machine TEXT PRIMARY KEY,
  key TEXT NOT NULL UNIQUE,          -- Ed25519 public key in hexadecimal
  enrolled INTEGER NOT NULL,
  enrolled_by TEXT NOT NULL,         -- who issued the code
  ticket BLOB NOT NULL,              -- keyed hash of the ticket that is good
  next_ticket BLOB,                  -- and of one that was handed out and may have been kept or lost on the way
  temporary INTEGER NOT NULL,
  relay TEXT NOT NULL DEFAULT '[]',  -- what it may reach for others, as a JSON list of entries of an allow-list
  last_seen INTEGER,
  last_from TEXT NOT NULL DEFAULT '',
  facts TEXT                         -- JSON
) STRICT;

-- Keys that may not come again.
CREATE TABLE revoked_agents (key TEXT PRIMARY KEY, machine TEXT NOT NULL, at INTEGER NOT NULL, by TEXT NOT NULL) STRICT;

CREATE TABLE enrolment_codes (
  id TEXT PRIMARY KEY,
  hash BLOB NOT NULL UNIQUE,         -- keyed
  machine TEXT,                      -- for this machine, or
  site TEXT NOT NULL,                -- for any of this site
  labels TEXT NOT NULL,              -- JSON list, for machines that come with it
  uses_left INTEGER NOT NULL,
  made INTEGER NOT NULL,
  made_by TEXT NOT NULL,
  expires INTEGER NOT NULL
) STRICT;

CREATE TABLE retired_machines (
  name TEXT PRIMARY KEY,
  body TEXT NOT NULL,
  retired INTEGER NOT NULL,
  retired_by TEXT NOT NULL,
  why TEXT NOT NULL
) STRICT;

-- When something was heard of a machine: a session, a check, its agent.
CREATE TABLE machine_heard (machine TEXT PRIMARY KEY, at INTEGER NOT NULL) STRICT;

CREATE TABLE favourites (person TEXT NOT NULL, machine TEXT NOT NULL, PRIMARY KEY (person, machine)) STRICT;

-- Host keys that were shown instead of the pinned ones, until somebody accepts or the machine shows the right one.
CREATE TABLE other_host_keys (
  machine TEXT PRIMARY KEY,
  line TEXT NOT NULL,                -- OpenSSH's public key format
  first INTEGER NOT NULL,
  last INTEGER NOT NULL
) STRICT;

CREATE TABLE machine_checks (machine TEXT PRIMARY KEY, at INTEGER NOT NULL, results TEXT NOT NULL) STRICT;

CREATE TABLE vault (
  machine TEXT NOT NULL,
  account TEXT NOT NULL,
  kind TEXT NOT NULL,                -- password or key
  current BLOB NOT NULL,             -- sealed
  other BLOB,                        -- sealed: the next one, or the one before that is still to be taken from the machine
  phase TEXT NOT NULL,
  changer TEXT NOT NULL,             -- account that changes a password; empty for the account itself
  schedule TEXT NOT NULL,            -- JSON
  changed INTEGER NOT NULL,
  used INTEGER,
  failed INTEGER,
  failure TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (machine, account)
) STRICT;

CREATE TABLE vault_history (
  n INTEGER PRIMARY KEY,
  machine TEXT NOT NULL,
  account TEXT NOT NULL,
  at INTEGER NOT NULL,
  by TEXT NOT NULL,
  what TEXT NOT NULL
) STRICT;
CREATE INDEX vault_history_of ON vault_history (machine, account, n DESC);

-- What was found on machines.
CREATE TABLE machine_accounts (
  machine TEXT NOT NULL,
  account TEXT NOT NULL,
  number INTEGER NOT NULL,
  shell TEXT NOT NULL,
  keys TEXT NOT NULL,                -- JSON: fingerprint, kind, comment of each authorised key
  seen INTEGER NOT NULL,
  PRIMARY KEY (machine, account)
) STRICT;

ALTER TABLE findings ADD COLUMN settled INTEGER;
ALTER TABLE findings ADD COLUMN settled_by TEXT;
ALTER TABLE findings ADD COLUMN settled_why TEXT;

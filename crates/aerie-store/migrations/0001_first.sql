-- Instants are milliseconds since the epoch; bodies are JSON as the core's types serialise.
CREATE TABLE meta (key TEXT PRIMARY KEY, value BLOB NOT NULL) STRICT;

CREATE TABLE people (
  name TEXT PRIMARY KEY,
  body TEXT NOT NULL,
  password_hash TEXT,
  totp BLOB,                        -- sealed under the master key
  totp_step INTEGER NOT NULL DEFAULT 0,
  failures INTEGER NOT NULL DEFAULT 0,
  retry_at INTEGER NOT NULL DEFAULT 0
) STRICT;

CREATE TABLE machines (name TEXT PRIMARY KEY, body TEXT NOT NULL) STRICT;

CREATE TABLE policies (
  version INTEGER PRIMARY KEY,
  text TEXT NOT NULL,
  published_at INTEGER NOT NULL,
  published_by TEXT NOT NULL
) STRICT;

CREATE TABLE sessions (
  id TEXT PRIMARY KEY,
  person TEXT NOT NULL,
  machine TEXT NOT NULL,
  account TEXT NOT NULL,
  source TEXT NOT NULL,
  began INTEGER NOT NULL,
  ended INTEGER,
  end_reason TEXT,
  uses TEXT NOT NULL DEFAULT '',    -- words of the capabilities used, separated by blanks
  factors TEXT NOT NULL,
  rule TEXT NOT NULL,
  rule_line INTEGER NOT NULL,
  policy_version INTEGER NOT NULL,
  recording TEXT,                   -- file name; none where the rules demand none
  digest TEXT,                      -- of the closed recording
  length_ms INTEGER NOT NULL DEFAULT 0,
  bytes_out INTEGER NOT NULL DEFAULT 0,
  bytes_in INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX sessions_began ON sessions (began DESC, id DESC);
CREATE INDEX sessions_live ON sessions (began) WHERE ended IS NULL;
CREATE INDEX sessions_person ON sessions (person, began DESC);
CREATE INDEX sessions_machine ON sessions (machine, began DESC);

CREATE TABLE events (
  seq INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  kind TEXT NOT NULL,
  actor TEXT NOT NULL,
  machine TEXT,
  session TEXT,
  body TEXT,                        -- canonical JSON; none where retention removed it
  leaf BLOB NOT NULL,
  seal BLOB NOT NULL
) STRICT;
CREATE INDEX events_session ON events (session, seq) WHERE session IS NOT NULL;
CREATE INDEX events_kind ON events (kind, seq DESC);

CREATE TABLE checkpoints (size INTEGER PRIMARY KEY, root TEXT NOT NULL, at TEXT NOT NULL, signature TEXT NOT NULL) STRICT;

CREATE TABLE findings (
  id TEXT PRIMARY KEY,
  kind TEXT NOT NULL,
  rank INTEGER NOT NULL,            -- 2 critical, 1 high, 0 medium
  machine TEXT NOT NULL,
  person TEXT,
  session TEXT,
  first INTEGER NOT NULL,
  last INTEGER NOT NULL,
  body TEXT NOT NULL,
  raised INTEGER NOT NULL
) STRICT;
CREATE INDEX findings_last ON findings (last DESC, id DESC);
CREATE INDEX findings_session ON findings (session) WHERE session IS NOT NULL;

CREATE TABLE tokens (
  hash BLOB PRIMARY KEY,
  person TEXT NOT NULL,
  kind TEXT NOT NULL,               -- console or client
  created INTEGER NOT NULL,
  expires INTEGER NOT NULL
) STRICT;
CREATE INDEX tokens_person ON tokens (person);

-- How people sign in. Whoever is removed takes all of it along; sessions, events and findings keep their name.
ALTER TABLE people ADD COLUMN password_set INTEGER NOT NULL DEFAULT 0;
-- The brake on guessing is kept in memory: it counts places, and not people alone.
ALTER TABLE people DROP COLUMN failures;
ALTER TABLE people DROP COLUMN retry_at;

-- Names that somebody had: they are not given again, or old records would speak of somebody else.
CREATE TABLE removed_people (name TEXT PRIMARY KEY, removed INTEGER NOT NULL, removed_by TEXT NOT NULL) STRICT;

CREATE TABLE passkeys (
  id BLOB PRIMARY KEY,
  person TEXT NOT NULL REFERENCES people (name) ON DELETE CASCADE,
  kind TEXT NOT NULL,               -- passkey (verifies its user) or security-key
  label TEXT NOT NULL,
  bound INTEGER NOT NULL,           -- 1 where it cannot leave its device
  body TEXT NOT NULL,               -- JSON: public key, counter, and what else checking it needs
  created INTEGER NOT NULL,
  last_used INTEGER,
  last_from TEXT
) STRICT;
CREATE INDEX passkeys_person ON passkeys (person);

CREATE TABLE recovery_codes (
  hash BLOB PRIMARY KEY,            -- keyed
  person TEXT NOT NULL REFERENCES people (name) ON DELETE CASCADE,
  created INTEGER NOT NULL,
  used INTEGER
) STRICT;
CREATE INDEX recovery_codes_person ON recovery_codes (person);

CREATE TABLE temporary_codes (
  person TEXT PRIMARY KEY REFERENCES people (name) ON DELETE CASCADE,
  hash BLOB NOT NULL,               -- keyed
  issued INTEGER NOT NULL,
  issued_by TEXT NOT NULL,
  expires INTEGER NOT NULL
) STRICT;

-- One-time links: of each person the newest alone is good.
CREATE TABLE invitations (
  hash BLOB PRIMARY KEY,            -- keyed
  person TEXT NOT NULL UNIQUE,      -- empty for the one that makes the first administrator
  created INTEGER NOT NULL,
  created_by TEXT NOT NULL,
  expires INTEGER NOT NULL
) STRICT;

CREATE TABLE key_use (fingerprint TEXT PRIMARY KEY, last_used INTEGER NOT NULL, last_from TEXT NOT NULL) STRICT;

-- Browsers and addresses that somebody signed in from: strangers cannot use up their tries.
CREATE TABLE known_sources (
  person TEXT NOT NULL REFERENCES people (name) ON DELETE CASCADE,
  source BLOB NOT NULL,
  last INTEGER NOT NULL,
  PRIMARY KEY (person, source)
) STRICT;

DROP TABLE tokens;
CREATE TABLE tokens (
  id TEXT PRIMARY KEY,
  hash BLOB NOT NULL UNIQUE,        -- keyed
  person TEXT NOT NULL,
  kind TEXT NOT NULL,               -- console, client or api
  name TEXT NOT NULL DEFAULT '',    -- of an API token, what its owner calls it; else what signed in
  scopes TEXT NOT NULL DEFAULT '',  -- words, separated by blanks
  key BLOB,                         -- Ed25519 public key that must sign each request
  stage TEXT NOT NULL,              -- proving, enrolling or full
  proofs TEXT NOT NULL,             -- JSON: factor to instant
  created INTEGER NOT NULL,
  expires INTEGER NOT NULL,
  last_used INTEGER NOT NULL,
  last_from TEXT NOT NULL
) STRICT;
CREATE INDEX tokens_person ON tokens (person);

CREATE TABLE pins (
  id TEXT PRIMARY KEY,
  machine TEXT UNIQUE,              -- of a standing PIN; none of a one-time one
  note TEXT NOT NULL,
  hash BLOB NOT NULL,               -- keyed
  made INTEGER NOT NULL,
  ends INTEGER,                     -- none of a standing one
  tries_left INTEGER NOT NULL,
  used INTEGER,
  issued_by TEXT NOT NULL
) STRICT;
CREATE INDEX pins_made ON pins (made DESC);

CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;
CREATE TABLE setting_changes (
  n INTEGER PRIMARY KEY,
  name TEXT NOT NULL,
  before TEXT NOT NULL,
  after TEXT NOT NULL,
  at INTEGER NOT NULL,
  by TEXT NOT NULL,
  why TEXT NOT NULL
) STRICT;

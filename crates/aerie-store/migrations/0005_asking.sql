-- Access that was asked for beforehand, or while a session waits at its start.
CREATE TABLE requests (
  id TEXT PRIMARY KEY,
  person TEXT NOT NULL,
  wish TEXT NOT NULL,                -- JSON
  answers TEXT NOT NULL,             -- JSON list
  asked INTEGER NOT NULL,
  expires INTEGER NOT NULL,
  reminded INTEGER,
  state TEXT NOT NULL,               -- open, approved, refused, withdrawn, expired
  over INTEGER                       -- when it left the state open
) STRICT;
CREATE INDEX requests_open ON requests (state, expires);
CREATE INDEX requests_by_time ON requests (asked, id);

CREATE TABLE passes (
  id TEXT PRIMARY KEY,
  person TEXT NOT NULL,
  pass TEXT NOT NULL,                -- JSON
  until INTEGER NOT NULL,
  made INTEGER NOT NULL,
  withdrawn INTEGER,
  withdrawn_by TEXT NOT NULL DEFAULT '',
  why TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX passes_until ON passes (until);

-- Who may answer in whose place.
CREATE TABLE deputies (
  person TEXT PRIMARY KEY,
  deputy TEXT NOT NULL,
  until INTEGER NOT NULL,
  made INTEGER NOT NULL
) STRICT;

-- Uses that wait at this moment: what is left here after a crash is told and swept.
CREATE TABLE waits (
  id TEXT PRIMARY KEY,
  person TEXT NOT NULL,
  machine TEXT NOT NULL,
  whom TEXT NOT NULL,
  since INTEGER NOT NULL
) STRICT;

-- One row while the service is locked down.
CREATE TABLE lockdown (
  one INTEGER PRIMARY KEY CHECK (one = 1),
  since INTEGER NOT NULL,
  by TEXT NOT NULL,
  why TEXT NOT NULL
) STRICT;

-- Notices until they are delivered, and a while after.
CREATE TABLE outbox (
  id TEXT PRIMARY KEY,
  channel TEXT NOT NULL,             -- mail or webhook
  recipient TEXT NOT NULL,
  kind TEXT NOT NULL,
  subject TEXT NOT NULL,
  body TEXT NOT NULL,
  made INTEGER NOT NULL,
  tries INTEGER NOT NULL DEFAULT 0,
  next INTEGER NOT NULL,
  failure TEXT NOT NULL DEFAULT '',
  sent INTEGER
) STRICT;
CREATE INDEX outbox_next ON outbox (sent, next);

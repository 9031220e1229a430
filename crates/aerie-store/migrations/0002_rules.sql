-- Who agreed to a version, what was said of it, and which earlier version it brought back.
ALTER TABLE policies ADD COLUMN agreed_by TEXT;
ALTER TABLE policies ADD COLUMN note TEXT NOT NULL DEFAULT '';
ALTER TABLE policies ADD COLUMN restored INTEGER;

CREATE TABLE drafts (
  id TEXT PRIMARY KEY,
  title TEXT NOT NULL,
  text TEXT NOT NULL,
  base INTEGER NOT NULL,            -- version of the rules that it was written against
  revision INTEGER NOT NULL,        -- counts every change; an agreement is to one revision
  author TEXT NOT NULL,
  created INTEGER NOT NULL,
  changed INTEGER NOT NULL,
  changed_by TEXT NOT NULL,
  agreed_by TEXT,
  agreed_revision INTEGER,
  published INTEGER                 -- version that it became
) STRICT;

-- Groups that hold others or fill themselves.
CREATE TABLE groups (kind TEXT NOT NULL, name TEXT NOT NULL, body TEXT NOT NULL, PRIMARY KEY (kind, name)) STRICT;

CREATE TABLE reviews (
  id TEXT PRIMARY KEY,
  title TEXT NOT NULL,
  people TEXT NOT NULL,             -- selectors of the scope
  machines TEXT NOT NULL,
  deadline INTEGER NOT NULL,
  created INTEGER NOT NULL,
  created_by TEXT NOT NULL,
  policy_version INTEGER NOT NULL,
  reminded INTEGER,
  closed INTEGER,
  closed_by TEXT
) STRICT;

CREATE TABLE review_entries (
  review TEXT NOT NULL REFERENCES reviews (id),
  n INTEGER NOT NULL,
  person TEXT NOT NULL,
  rule TEXT NOT NULL,
  machines TEXT NOT NULL,           -- JSON list of names
  capabilities TEXT NOT NULL,       -- words, separated by blanks
  owners TEXT NOT NULL,             -- JSON list of people who may decide besides administrators
  decision TEXT,                    -- keep or withdraw
  decided_by TEXT,
  decided_at INTEGER,
  note TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (review, n)
) STRICT;

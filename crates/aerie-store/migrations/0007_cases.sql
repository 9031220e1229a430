-- Findings become cases: state, owner, day, and what was done with them.
ALTER TABLE findings ADD COLUMN state TEXT NOT NULL DEFAULT 'open';
ALTER TABLE findings ADD COLUMN owner TEXT;
ALTER TABLE findings ADD COLUMN due INTEGER;
ALTER TABLE findings ADD COLUMN until INTEGER;          -- accepted until
UPDATE findings SET state = 'resolved' WHERE settled IS NOT NULL;
CREATE INDEX findings_open ON findings (last DESC, id DESC) WHERE state NOT IN ('resolved', 'accepted');
CREATE TABLE finding_history (
    id INTEGER PRIMARY KEY,
    finding TEXT NOT NULL REFERENCES findings (id) ON DELETE CASCADE,
    at INTEGER NOT NULL,
    by TEXT NOT NULL,
    sentence TEXT NOT NULL
) STRICT;
CREATE INDEX finding_history_of ON finding_history (finding, id);

-- Findings that are not to come up, each until a day.
CREATE TABLE suppressions (
    id TEXT PRIMARY KEY,
    body TEXT NOT NULL,
    by TEXT NOT NULL,
    made INTEGER NOT NULL,
    until INTEGER NOT NULL,
    withdrawn INTEGER,
    withdrawn_by TEXT,
    hits INTEGER NOT NULL DEFAULT 0,
    last_hit INTEGER
) STRICT;

-- Detections as they were published; the shipped ones where there are none.
CREATE TABLE detections (
    version INTEGER PRIMARY KEY,
    text TEXT NOT NULL,
    by TEXT NOT NULL,
    at INTEGER NOT NULL,
    why TEXT NOT NULL
) STRICT;

-- On which days (since 1970-01-01, of UTC) which log has something of which machine.
CREATE TABLE evidence_days (
    machine TEXT NOT NULL,
    day INTEGER NOT NULL,
    source TEXT NOT NULL,
    lines INTEGER NOT NULL,
    PRIMARY KEY (machine, day, source)
) STRICT, WITHOUT ROWID;
CREATE INDEX evidence_days_day ON evidence_days (day);

-- How far each log was read: its beginning tells it from others, whatever it is called by now.
CREATE TABLE log_positions (
    head TEXT PRIMARY KEY,
    name TEXT NOT NULL,
    offset INTEGER NOT NULL,
    lines INTEGER NOT NULL,
    read_at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- When the service itself signed in to a machine, to check it, to look for keys or to change a credential: its log shows that too.
CREATE TABLE own_links (
    machine TEXT NOT NULL,
    word TEXT NOT NULL,
    at INTEGER NOT NULL
) STRICT;
CREATE INDEX own_links_at ON own_links (at);

ALTER TABLE accesses ADD COLUMN algorithm TEXT NOT NULL DEFAULT '';

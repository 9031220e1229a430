-- Certificates of accesses, as JSON.
ALTER TABLE accesses ADD COLUMN certificate TEXT;
-- What they were used for, as far as a log says: words of capabilities, separated by blanks.
ALTER TABLE accesses ADD COLUMN uses TEXT NOT NULL DEFAULT '';

-- When a recording was last held against the log, so that each has its turn.
ALTER TABLE sessions ADD COLUMN checked INTEGER;
CREATE INDEX sessions_checked ON sessions (checked) WHERE digest IS NOT NULL;
CREATE INDEX sessions_rule ON sessions (rule, began);

-- Logs that come in by themselves: how they come, and how far that of an agent was taken.
CREATE TABLE live_logs (
    machine TEXT PRIMARY KEY,
    first INTEGER NOT NULL,
    last INTEGER NOT NULL,
    longest INTEGER NOT NULL,          -- longest pause, in milliseconds
    cursor TEXT NOT NULL DEFAULT ''
) STRICT, WITHOUT ROWID;

-- Reports that are mailed now and then.
CREATE TABLE report_schedules (
    id TEXT PRIMARY KEY,
    body TEXT NOT NULL,                -- JSON
    by TEXT NOT NULL,
    made INTEGER NOT NULL,
    next INTEGER NOT NULL,
    last INTEGER
) STRICT, WITHOUT ROWID;

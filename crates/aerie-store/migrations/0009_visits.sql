-- Visits: what is asked of all of them stands in columns, the rest in the body.
CREATE TABLE visits (
    id TEXT PRIMARY KEY,
    queue TEXT NOT NULL,
    state TEXT NOT NULL,
    technician TEXT,
    made INTEGER NOT NULL,
    next INTEGER,                      -- when time changes something
    closed INTEGER,
    guest BLOB,                        -- keyed hash of the token of whoever is helped
    body TEXT NOT NULL                 -- JSON
) STRICT, WITHOUT ROWID;
CREATE INDEX visits_open ON visits (next) WHERE next IS NOT NULL;
CREATE INDEX visits_made ON visits (made);

-- Pictures that were kept of the screen of whoever is helped.
CREATE TABLE visit_pictures (
    id TEXT PRIMARY KEY,
    visit TEXT NOT NULL REFERENCES visits (id),
    png BLOB NOT NULL
) STRICT, WITHOUT ROWID;

-- Films that are made of recordings, to be played elsewhere.
CREATE TABLE films (
    session TEXT PRIMARY KEY REFERENCES sessions (id),
    state TEXT NOT NULL,               -- waiting, done or failed
    by TEXT NOT NULL,
    made INTEGER NOT NULL,
    reached INTEGER NOT NULL DEFAULT 0,-- milliseconds of the recording that are in it
    failure TEXT NOT NULL DEFAULT ''
) STRICT, WITHOUT ROWID;

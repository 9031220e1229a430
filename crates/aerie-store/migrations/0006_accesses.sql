-- Accesses that the machines' own logs show, and where what several logs tell of one access was put together.
CREATE TABLE accesses (
    id TEXT PRIMARY KEY,
    service TEXT NOT NULL,
    machine TEXT NOT NULL,
    account TEXT NOT NULL,
    person TEXT,
    source TEXT NOT NULL,
    port INTEGER NOT NULL,
    method TEXT NOT NULL,
    key TEXT,
    began INTEGER NOT NULL,
    ended INTEGER,
    session TEXT,
    lines TEXT NOT NULL
) STRICT;
CREATE INDEX accesses_began ON accesses (began DESC, id DESC) WHERE session IS NULL;
CREATE INDEX accesses_machine ON accesses (machine, began DESC, id DESC);
CREATE INDEX accesses_person ON accesses (person, began DESC, id DESC) WHERE session IS NULL;
CREATE INDEX accesses_session ON accesses (session) WHERE session IS NOT NULL;
CREATE TABLE access_aliases (
    id TEXT PRIMARY KEY,
    access TEXT NOT NULL REFERENCES accesses (id) ON DELETE CASCADE
) STRICT;

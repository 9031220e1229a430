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
CREATE INDEX accesses_began ON accesses (began DESC, id DESC);
CREATE INDEX accesses_machine ON accesses (machine, began DESC);
CREATE INDEX accesses_person ON accesses (person, began DESC);
CREATE INDEX accesses_session ON accesses (session) WHERE session IS NOT NULL;
CREATE TABLE access_aliases (
    id TEXT PRIMARY KEY,
    access TEXT NOT NULL REFERENCES accesses (id) ON DELETE CASCADE
) STRICT;
-- Who got into which machine, whoever says so: Aerie's own sessions, and what no session explains.
CREATE VIEW who_when_where AS
    SELECT id, 'ssh' AS service, machine, account, person, source, 0 AS port, factors AS method, NULL AS key, began, ended, id AS session, '[]' AS lines
    FROM sessions
    UNION ALL
    SELECT id, service, machine, account, person, source, port, method, key, began, ended, NULL AS session, lines
    FROM accesses WHERE session IS NULL;

-- Who had a hand in somebody's account, and when: whoever did cannot count as another person beside its owner for a while.
CREATE TABLE account_touches (
    person TEXT NOT NULL,
    by TEXT NOT NULL,
    kind TEXT NOT NULL,
    at INTEGER NOT NULL,
    PRIMARY KEY (person, by, kind)
);

-- What one administrator proposed and another must agree to before it is done.
CREATE TABLE proposals (
    id TEXT PRIMARY KEY,
    kind TEXT NOT NULL,
    subject TEXT NOT NULL,
    sentence TEXT NOT NULL,
    payload TEXT NOT NULL,
    by TEXT NOT NULL,
    at INTEGER NOT NULL,
    expires INTEGER NOT NULL
);

-- Everybody who wrote in a draft: none of them can agree to it.
ALTER TABLE drafts ADD COLUMN writers TEXT NOT NULL DEFAULT '';

-- For which host key and address a credential was entered; empty for those of an earlier version, until they are sealed anew.
ALTER TABLE vault ADD COLUMN bound TEXT NOT NULL DEFAULT '';

-- Files that pass between the two of a visit, until it is closed.
CREATE TABLE visit_files (
    id TEXT PRIMARY KEY,
    visit TEXT NOT NULL REFERENCES visits (id),
    content BLOB NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX visit_files_visit ON visit_files (visit);

-- What is kept of a visit is encrypted; what was kept before is not.
ALTER TABLE visit_pictures ADD COLUMN sealed INTEGER NOT NULL DEFAULT 0;
ALTER TABLE visit_files ADD COLUMN sealed INTEGER NOT NULL DEFAULT 0;

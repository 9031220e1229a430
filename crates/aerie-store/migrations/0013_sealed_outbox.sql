-- What notices say is encrypted, and forgotten once they are delivered: invitations hold a secret. Those that wait are in clear, and end.
DELETE FROM outbox WHERE sent IS NULL;
ALTER TABLE outbox DROP COLUMN body;
ALTER TABLE outbox ADD COLUMN sealed BLOB NOT NULL DEFAULT x'';

-- Administrators: what they may see, and whether they may sign in. Until `first_until` a password is the first one, made
-- by the service; nothing else is done with it but to change it. NULL is a password of one's own.
ALTER TABLE administrator ADD COLUMN sees_names INTEGER NOT NULL DEFAULT 1;
ALTER TABLE administrator ADD COLUMN note TEXT;
ALTER TABLE administrator ADD COLUMN disabled INTEGER NOT NULL DEFAULT 0;
ALTER TABLE administrator ADD COLUMN first_until REAL;
ALTER TABLE administrator ADD COLUMN made_at REAL;
ALTER TABLE administrator ADD COLUMN last_seen REAL;
ALTER TABLE administrator ADD COLUMN last_from TEXT;
ALTER TABLE administrator ADD COLUMN version INTEGER NOT NULL DEFAULT 1;

-- What administrators did, and what was done about them: each row's digest is over its entry, which holds the digest of
-- the row before.
CREATE TABLE audit (
  number INTEGER PRIMARY KEY, at REAL NOT NULL, by TEXT, act TEXT NOT NULL, entry TEXT NOT NULL, digest TEXT NOT NULL
) STRICT;
CREATE INDEX audit_by_administrator ON audit (by, number);
CREATE TRIGGER audit_is_not_changed BEFORE UPDATE ON audit
BEGIN SELECT RAISE(ABORT, 'the audit trail is only added to'); END;
CREATE TRIGGER audit_is_not_cut BEFORE DELETE ON audit
BEGIN SELECT RAISE(ABORT, 'the audit trail is only added to'); END;

-- Who made what: searched by person.
CREATE INDEX activity_by_person ON activity (person, at) WHERE person IS NOT NULL;

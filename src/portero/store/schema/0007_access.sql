-- Wrong passwords and codes, by who guessed: a name, an address, or both.
CREATE TABLE guess (guesser TEXT PRIMARY KEY, number INTEGER NOT NULL, last REAL NOT NULL) STRICT, WITHOUT ROWID;
CREATE INDEX guess_by_time ON guess (last);

-- Sessions and tokens are listed and ended by an id; where they were last used, and by which token a token was made.
ALTER TABLE session ADD COLUMN id TEXT NOT NULL DEFAULT '';
ALTER TABLE session ADD COLUMN made_at REAL;
ALTER TABLE session ADD COLUMN last_used REAL;
ALTER TABLE session ADD COLUMN last_from TEXT;
UPDATE session SET id = lower(hex(randomblob(8)));
CREATE UNIQUE INDEX session_by_id ON session (id);
ALTER TABLE api_token ADD COLUMN made_by TEXT;
ALTER TABLE api_token ADD COLUMN last_used REAL;
ALTER TABLE api_token ADD COLUMN last_from TEXT;
-- Every token has an end.
UPDATE api_token SET expires_at = unixepoch() + 365 * 86400.0 WHERE expires_at IS NULL;

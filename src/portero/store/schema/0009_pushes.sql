-- Pushes: machines that were told at once to ask for what is new, and how far each is with it.
CREATE TABLE push (
  id TEXT PRIMARY KEY, at REAL NOT NULL, by TEXT NOT NULL, scope TEXT NOT NULL, reason TEXT
) STRICT;
CREATE INDEX push_by_time ON push (at);
CREATE TABLE receipt (
  push TEXT NOT NULL REFERENCES push ON DELETE CASCADE, device TEXT NOT NULL REFERENCES device ON DELETE CASCADE,
  told_at REAL, fetched_at REAL, applied_at REAL, problem TEXT,
  PRIMARY KEY (push, device)
) STRICT, WITHOUT ROWID;
CREATE INDEX receipt_by_device ON receipt (device);

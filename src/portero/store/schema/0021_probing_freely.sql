-- Who may have machines try any address, and take a picture of what it comes to: a right of its own.
ALTER TABLE administrator ADD COLUMN probes_freely INTEGER NOT NULL DEFAULT 0;
-- Pictures of what machines saw; they go after some days, or with what was seen.
CREATE TABLE picture (
  run INTEGER NOT NULL,
  device TEXT NOT NULL,
  probe_set TEXT NOT NULL,
  number INTEGER NOT NULL,
  at REAL NOT NULL,
  by TEXT NOT NULL,
  png BLOB NOT NULL,
  PRIMARY KEY (run, device, probe_set, number),
  FOREIGN KEY (run, device, probe_set, number) REFERENCES observation (run, device, probe_set, number)
    ON DELETE CASCADE
) STRICT, WITHOUT ROWID;
CREATE INDEX picture_by_age ON picture (at);

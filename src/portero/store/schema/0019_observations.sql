-- What machines saw of probes; it goes with its run.
CREATE TABLE observation (
  id INTEGER PRIMARY KEY,
  run INTEGER NOT NULL REFERENCES run (id) ON DELETE CASCADE,
  device TEXT NOT NULL REFERENCES device (id) ON DELETE CASCADE,
  probe_set TEXT NOT NULL,
  number INTEGER NOT NULL,
  at REAL NOT NULL,
  agrees INTEGER,
  document TEXT NOT NULL,
  -- What it takes to decide it again, packed, where something else was seen than predicted.
  probe_case BLOB,
  UNIQUE (run, device, probe_set, number)
) STRICT;
CREATE INDEX observation_of_device ON observation (device, probe_set, number, at);
-- When each machine last tried something.
CREATE TABLE device_observed (
  device TEXT PRIMARY KEY REFERENCES device (id) ON DELETE CASCADE, at REAL NOT NULL
) STRICT, WITHOUT ROWID;

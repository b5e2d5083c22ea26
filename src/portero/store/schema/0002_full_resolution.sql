-- What assignments and rules refer to, overlays for single devices, the directory.

CREATE TABLE schedule (
  key TEXT PRIMARY KEY, place INTEGER NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL
) STRICT;
CREATE TABLE application_set (
  key TEXT PRIMARY KEY, place INTEGER NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL
) STRICT;
CREATE TABLE service (
  key TEXT PRIMARY KEY, place INTEGER NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL
) STRICT;
CREATE TABLE notice (
  key TEXT PRIMARY KEY, place INTEGER NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL
) STRICT;
CREATE TABLE probe_set (
  key TEXT PRIMARY KEY, place INTEGER NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL
) STRICT;

-- What single devices get on top of their class's bundle: immutable, named by digest; and which device should have which.
CREATE TABLE overlay (
  digest TEXT PRIMARY KEY, bundle TEXT NOT NULL REFERENCES bundle (digest), packed BLOB NOT NULL, made_at REAL NOT NULL
) STRICT;
CREATE TABLE device_overlay (
  device TEXT PRIMARY KEY REFERENCES device (id) ON DELETE CASCADE,
  digest TEXT NOT NULL REFERENCES overlay (digest),
  revision INTEGER NOT NULL,
  manifest TEXT NOT NULL
) STRICT, WITHOUT ROWID;
-- The same digest beside the device, so that lists need no look-up.
ALTER TABLE device ADD COLUMN overlay TEXT;

-- Since when a device has applied an assignment that holds until it restarts.
CREATE TABLE applied_until_restart (
  device TEXT NOT NULL REFERENCES device (id) ON DELETE CASCADE,
  assignment TEXT NOT NULL,
  since REAL NOT NULL,
  PRIMARY KEY (device, assignment)
) STRICT, WITHOUT ROWID;

-- People and their user groups, as of the newest generation.
CREATE TABLE directory (generation INTEGER PRIMARY KEY, at REAL NOT NULL, by TEXT NOT NULL, document TEXT NOT NULL) STRICT;

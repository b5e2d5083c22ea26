-- The programs of the fleet by identity, their versions, and which machine has which. How many machines have each, and how
-- many versions there are, is kept with it: machines are many, and it is asked for often.
CREATE TABLE program (
  id INTEGER PRIMARY KEY,
  identity TEXT NOT NULL UNIQUE,
  name TEXT NOT NULL,
  vendor TEXT,
  category TEXT,
  first REAL NOT NULL,
  gone_at REAL,
  devices INTEGER NOT NULL DEFAULT 0,
  versions INTEGER NOT NULL DEFAULT 0,
  newest TEXT,
  words TEXT NOT NULL
) STRICT;
CREATE INDEX program_by_devices ON program (devices, id);
CREATE INDEX program_by_first ON program (first, id);
CREATE TABLE program_version (
  id INTEGER PRIMARY KEY,
  program INTEGER NOT NULL REFERENCES program (id),
  fields TEXT NOT NULL UNIQUE,
  first REAL NOT NULL,
  devices INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX program_version_by_program ON program_version (program, first);
CREATE TABLE installed (
  device TEXT NOT NULL REFERENCES device (id) ON DELETE CASCADE,
  version INTEGER NOT NULL REFERENCES program_version (id),
  PRIMARY KEY (device, version)
) STRICT, WITHOUT ROWID;
CREATE INDEX installed_by_version ON installed (version, device);

-- How often each version of a program was started, by whom and where last: kept in sums, not start by start. `day` is when
-- a day (UTC) begins, in seconds since 1970.
CREATE TABLE start_day (
  version INTEGER NOT NULL REFERENCES program_version (id),
  day REAL NOT NULL,
  starts INTEGER NOT NULL,
  PRIMARY KEY (version, day)
) STRICT, WITHOUT ROWID;
CREATE TABLE start_person (
  version INTEGER NOT NULL REFERENCES program_version (id),
  person TEXT NOT NULL,
  last REAL NOT NULL,
  PRIMARY KEY (version, person)
) STRICT, WITHOUT ROWID;
CREATE TABLE start_device (
  version INTEGER NOT NULL REFERENCES program_version (id),
  device TEXT NOT NULL REFERENCES device (id) ON DELETE CASCADE,
  last REAL NOT NULL,
  PRIMARY KEY (version, device)
) STRICT, WITHOUT ROWID;
CREATE INDEX start_device_by_device ON start_device (device, last);
-- of all its versions, in the last two weeks: kept with it, as lists tell it of many
ALTER TABLE program ADD COLUMN starts INTEGER NOT NULL DEFAULT 0;
-- programs that a feed names, whether a machine has them or not: by which feed, and what they are for as it says
ALTER TABLE program ADD COLUMN known_by TEXT;
ALTER TABLE program ADD COLUMN known_category TEXT;
CREATE INDEX program_by_known ON program (known_by) WHERE known_by IS NOT NULL;

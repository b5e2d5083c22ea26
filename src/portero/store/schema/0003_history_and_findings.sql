-- Findings that somebody has accepted for a while, and what it takes to go back to an earlier revision.

CREATE TABLE accepted_finding (
  id TEXT PRIMARY KEY,
  by TEXT NOT NULL,
  at REAL NOT NULL,
  reason TEXT NOT NULL,
  until REAL NOT NULL
) STRICT;

-- where a removed object stood in its list, counted from 0
ALTER TABLE change ADD COLUMN stood INTEGER;

-- the order in which a noun's objects stood before a revision that put them in another one
CREATE TABLE former_order (
  revision INTEGER NOT NULL REFERENCES revision (number),
  noun TEXT NOT NULL,
  keys TEXT NOT NULL,
  PRIMARY KEY (revision, noun)
) STRICT;

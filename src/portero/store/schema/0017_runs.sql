-- Runs: in short, and what came of each probe; and, for the newest ones, on which machines it did not come out.
CREATE TABLE run (
  id INTEGER PRIMARY KEY,
  at REAL NOT NULL,
  by TEXT NOT NULL,
  summary TEXT NOT NULL,
  results TEXT NOT NULL,
  devices BLOB
) STRICT;

-- When a rule last settled a probe, by what it names.
CREATE TABLE rule_probed (
  ruleset TEXT NOT NULL,
  selector TEXT NOT NULL,
  at REAL NOT NULL,
  PRIMARY KEY (ruleset, selector)
) STRICT, WITHOUT ROWID;

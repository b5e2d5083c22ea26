-- Where a rule of an assignment was last tried on a machine: whether what it says came to be. It goes with its run.
CREATE TABLE assignment_observed (
  assignment TEXT NOT NULL,
  device TEXT NOT NULL REFERENCES device (id) ON DELETE CASCADE,
  run INTEGER NOT NULL REFERENCES run (id) ON DELETE CASCADE,
  at REAL NOT NULL,
  held INTEGER NOT NULL,
  PRIMARY KEY (assignment, device)
) STRICT, WITHOUT ROWID;

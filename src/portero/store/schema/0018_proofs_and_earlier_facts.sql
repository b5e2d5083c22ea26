-- The probes that a change carried, and what they come to before it and since; a change has one proof at the most.
CREATE TABLE proof (
  revision INTEGER PRIMARY KEY REFERENCES revision (number) ON DELETE CASCADE,
  state TEXT NOT NULL CHECK (state IN ('waiting', 'holds', 'ended')),
  sets TEXT NOT NULL,
  document TEXT NOT NULL
) STRICT;
CREATE INDEX proof_waiting ON proof (revision) WHERE state = 'waiting';

-- What makes a device's earlier facts and labels of the later ones: JSON merge patches (RFC 7396), as of the moment of the
-- later ones. Programs, and who is signed in, are not among them.
CREATE TABLE earlier_facts (
  device TEXT NOT NULL REFERENCES device (id) ON DELETE CASCADE,
  at REAL NOT NULL,
  facts TEXT NOT NULL,
  labels TEXT NOT NULL,
  PRIMARY KEY (device, at)
) STRICT, WITHOUT ROWID;

-- Evidence as it was signed; it stays when its run is thinned out.
CREATE TABLE evidence (
  id INTEGER PRIMARY KEY,
  run INTEGER NOT NULL,
  revision INTEGER NOT NULL,
  summary TEXT NOT NULL,
  file BLOB NOT NULL
) STRICT;
CREATE INDEX evidence_by_revision ON evidence (revision);

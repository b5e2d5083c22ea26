-- Bundles come in parts: a class's document names them by digest, and all documents share them.
CREATE TABLE part (
  digest TEXT PRIMARY KEY, size INTEGER NOT NULL, packed BLOB NOT NULL, made_at REAL NOT NULL
) STRICT;

-- Bundles come in parts: a class's document names them by digest, and all documents share them.
CREATE TABLE part (
  digest TEXT PRIMARY KEY, size INTEGER NOT NULL, packed BLOB NOT NULL, made_at REAL NOT NULL
) STRICT;
-- how units stand is counted by class
CREATE INDEX device_by_unit_and_class ON device (unit, class) WHERE lifecycle <> 'retired';

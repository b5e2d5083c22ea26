-- The first schema. Times are seconds since 1970 in UTC, as REAL. Documents are JSON as core.nouns writes them.

CREATE TABLE setting (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;

-- Every committed change of the estate, and each object it touched, whole before and after.
CREATE TABLE revision (
  number INTEGER PRIMARY KEY,
  at REAL NOT NULL,
  by TEXT NOT NULL,
  summary TEXT NOT NULL,
  reason TEXT,
  devices INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE TABLE change (
  revision INTEGER NOT NULL REFERENCES revision (number),
  place INTEGER NOT NULL,
  noun TEXT NOT NULL,
  key TEXT NOT NULL,
  verb TEXT NOT NULL CHECK (verb IN ('created', 'changed', 'removed')),
  before TEXT,
  after TEXT,
  PRIMARY KEY (revision, place)
) STRICT;
CREATE INDEX change_by_object ON change (noun, key, revision);

-- What administrators author. `version` is the revision that last changed the object.
CREATE TABLE estate_group (
  key TEXT PRIMARY KEY, place INTEGER NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL
) STRICT;
CREATE TABLE ruleset (
  key TEXT PRIMARY KEY, place INTEGER NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL
) STRICT;
CREATE TABLE assignment (
  key TEXT PRIMARY KEY,
  place INTEGER NOT NULL,
  version INTEGER NOT NULL,
  ruleset TEXT NOT NULL REFERENCES ruleset (key) DEFERRABLE INITIALLY DEFERRED,
  document TEXT NOT NULL
) STRICT;
CREATE INDEX assignment_by_ruleset ON assignment (ruleset);
CREATE TABLE correction (
  key TEXT PRIMARY KEY, place INTEGER NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL
) STRICT;

-- What was compiled: immutable bundles named by digest, and the one each class of devices should have now.
CREATE TABLE bundle (
  digest TEXT PRIMARY KEY, size INTEGER NOT NULL, packed BLOB NOT NULL, made_at REAL NOT NULL
) STRICT;
CREATE TABLE class (
  id INTEGER PRIMARY KEY,
  groups TEXT NOT NULL UNIQUE,
  digest TEXT NOT NULL REFERENCES bundle (digest),
  revision INTEGER NOT NULL,
  manifest TEXT NOT NULL,
  since REAL NOT NULL
) STRICT;
CREATE TABLE class_group (
  group_key TEXT NOT NULL,
  class INTEGER NOT NULL REFERENCES class (id) ON DELETE CASCADE,
  PRIMARY KEY (group_key, class)
) STRICT, WITHOUT ROWID;

-- The fleet. Columns repeat those facts that lists search, filter and sort by.
CREATE TABLE device (
  id TEXT PRIMARY KEY,
  hostname TEXT NOT NULL,
  kind TEXT NOT NULL,
  unit TEXT,
  facts TEXT NOT NULL,
  labels TEXT NOT NULL DEFAULT '{}',
  class INTEGER NOT NULL REFERENCES class (id),
  credential_hash TEXT NOT NULL UNIQUE,
  joined_at REAL NOT NULL,
  last_heard REAL NOT NULL,
  usual_interval REAL,
  applied_bundle TEXT,
  applied_revision INTEGER,
  applied_at REAL,
  apply_problem TEXT,
  apply_failed_at REAL,
  last_batch INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX device_by_hostname ON device (hostname, id);
CREATE INDEX device_by_unit ON device (unit, id);
CREATE INDEX device_by_heard ON device (last_heard, id);
CREATE INDEX device_by_class ON device (class);

CREATE TABLE enrolment_code (
  id INTEGER PRIMARY KEY,
  code_hash TEXT NOT NULL UNIQUE,
  labels TEXT NOT NULL DEFAULT '{}',
  uses_left INTEGER NOT NULL CHECK (uses_left >= 0),
  expires_at REAL NOT NULL,
  made_by TEXT NOT NULL,
  made_at REAL NOT NULL
) STRICT;

-- What devices reported. (device, seq) makes a batch that is sent twice count once.
CREATE TABLE activity (
  device TEXT NOT NULL REFERENCES device (id),
  seq INTEGER NOT NULL,
  at REAL NOT NULL,
  received_at REAL NOT NULL,
  host TEXT NOT NULL,
  verdict TEXT NOT NULL,
  person TEXT,
  reference TEXT,
  test INTEGER NOT NULL,
  document TEXT NOT NULL,
  PRIMARY KEY (device, seq)
) STRICT, WITHOUT ROWID;
CREATE INDEX activity_by_time ON activity (at, device, seq);
CREATE INDEX activity_by_device ON activity (device, at);
CREATE INDEX activity_by_reference ON activity (reference) WHERE reference IS NOT NULL;
CREATE TABLE visit_count (
  device TEXT NOT NULL REFERENCES device (id),
  hour REAL NOT NULL,
  host TEXT NOT NULL,
  visits INTEGER NOT NULL,
  PRIMARY KEY (device, hour, host)
) STRICT, WITHOUT ROWID;

-- Who may use the service. Secrets are kept as hashes only.
CREATE TABLE administrator (
  name TEXT PRIMARY KEY,
  role TEXT NOT NULL CHECK (role IN ('reader', 'responder', 'author', 'keeper')),
  password_hash TEXT NOT NULL
) STRICT;
CREATE TABLE session (
  secret_hash TEXT PRIMARY KEY,
  administrator TEXT NOT NULL REFERENCES administrator (name) ON DELETE CASCADE,
  csrf_token TEXT NOT NULL,
  expires_at REAL NOT NULL
) STRICT;
CREATE TABLE api_token (
  id TEXT PRIMARY KEY,
  secret_hash TEXT NOT NULL UNIQUE,
  administrator TEXT NOT NULL REFERENCES administrator (name) ON DELETE CASCADE,
  label TEXT NOT NULL,
  role TEXT NOT NULL,
  made_at REAL NOT NULL,
  expires_at REAL
) STRICT;

-- An Idempotency-Key and what it was answered, so that a creation sent again is made once.
CREATE TABLE idempotency (
  key TEXT NOT NULL, administrator TEXT NOT NULL, fingerprint TEXT NOT NULL, answer TEXT NOT NULL, at REAL NOT NULL,
  PRIMARY KEY (administrator, key)
) STRICT, WITHOUT ROWID;

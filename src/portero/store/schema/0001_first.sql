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
CREATE TABLE layer_modes (
  key TEXT PRIMARY KEY, place INTEGER NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL
) STRICT;
CREATE TABLE coverage_row (
  key TEXT PRIMARY KEY, place INTEGER NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL
) STRICT;
-- Parts of the estate that there is one of: precedence, settings.
CREATE TABLE single (name TEXT PRIMARY KEY, version INTEGER NOT NULL, document TEXT NOT NULL) STRICT;

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

-- The fleet. Columns repeat those facts that lists search, filter and sort by; the whole of them stands beside, so that
-- going through many devices reads few pages.
CREATE TABLE device (
  id TEXT PRIMARY KEY,
  hostname TEXT NOT NULL,
  lifecycle TEXT NOT NULL CHECK (lifecycle IN ('invited', 'enrolled', 'retired')),
  kind TEXT NOT NULL,
  unit TEXT,
  os_family TEXT,
  os_version TEXT,
  serial TEXT,
  place TEXT,
  zone TEXT,
  filter_layer TEXT,
  browser_layer TEXT,
  startup_layer TEXT,
  words TEXT NOT NULL,
  labels TEXT NOT NULL DEFAULT '{}',
  version INTEGER NOT NULL DEFAULT 1,
  class INTEGER REFERENCES class (id),
  credential_hash TEXT UNIQUE,
  revoked INTEGER NOT NULL DEFAULT 0,
  rejoin_of TEXT REFERENCES device (id),
  keeps_name INTEGER NOT NULL DEFAULT 1,
  known_at REAL NOT NULL,
  joined_at REAL,
  last_heard REAL,
  usual_interval REAL,
  silent_after REAL,
  told_silent INTEGER NOT NULL DEFAULT 0,
  facts_at REAL,
  recheck_at REAL,
  applied_bundle TEXT,
  applied_revision INTEGER,
  applied_at REAL,
  apply_problem TEXT,
  apply_failed_at REAL,
  last_batch INTEGER NOT NULL DEFAULT 0,
  seq_offset INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX device_by_hostname ON device (hostname, id);
CREATE INDEX device_by_unit ON device (unit, id);
CREATE INDEX device_by_heard ON device (last_heard, id);
CREATE INDEX device_by_words ON device (lifecycle, words);
CREATE INDEX device_by_standing ON device (
  class, lifecycle, unit, revoked, silent_after, keeps_name, rejoin_of, facts_at, id
);
CREATE INDEX device_by_serial ON device (serial) WHERE serial IS NOT NULL;
CREATE INDEX device_by_silence ON device (silent_after) WHERE told_silent = 0;
CREATE INDEX device_by_recheck ON device (recheck_at) WHERE recheck_at IS NOT NULL;
CREATE TABLE device_facts (
  device TEXT PRIMARY KEY REFERENCES device (id) ON DELETE CASCADE, document TEXT NOT NULL
) STRICT;
-- What a device's own facts put in the way of its layers. Layer '' is the machine as a whole.
CREATE TABLE obstacle (
  code TEXT NOT NULL,
  layer TEXT NOT NULL,
  device TEXT NOT NULL REFERENCES device (id) ON DELETE CASCADE,
  rank INTEGER NOT NULL,
  about TEXT,
  PRIMARY KEY (code, layer, device)
) STRICT, WITHOUT ROWID;
CREATE INDEX obstacle_by_device ON obstacle (device);
-- What administrators, and joining, did to a device.
CREATE TABLE device_event (
  id INTEGER PRIMARY KEY,
  device TEXT NOT NULL REFERENCES device (id) ON DELETE CASCADE,
  at REAL NOT NULL,
  by TEXT NOT NULL,
  what TEXT NOT NULL,
  reason TEXT
) STRICT;
CREATE INDEX device_event_by_device ON device_event (device, id);

CREATE TABLE enrolment_code (
  id TEXT PRIMARY KEY,
  code_hash TEXT NOT NULL UNIQUE,
  name TEXT,
  labels TEXT NOT NULL DEFAULT '{}',
  uses INTEGER NOT NULL,
  uses_left INTEGER NOT NULL CHECK (uses_left >= 0),
  expires_at REAL NOT NULL,
  made_by TEXT NOT NULL,
  made_at REAL NOT NULL,
  revoked_at REAL,
  device TEXT REFERENCES device (id) ON DELETE CASCADE
) STRICT;
CREATE INDEX enrolment_code_by_time ON enrolment_code (made_at, id);

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

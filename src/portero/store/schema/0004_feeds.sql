-- Feeds, the generations that they bring, the category index that is made of them, and where hosts were seen.

CREATE TABLE feed (
  key TEXT PRIMARY KEY, place INTEGER NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL
) STRICT;

-- What became of a feed. `current` and `waiting` are numbers of generations; a credential is sent, so it is kept as it is.
CREATE TABLE feed_status (
  feed TEXT PRIMARY KEY,
  current INTEGER,
  waiting INTEGER,
  held INTEGER NOT NULL DEFAULT 0,
  polled_at REAL,
  result TEXT,
  problem TEXT,
  failures INTEGER NOT NULL DEFAULT 0,
  due_at REAL,
  etag TEXT,
  credential TEXT
) STRICT;
-- Their contents are files beside the database, named by digest; of a generation that is gone only the figures stay.
CREATE TABLE generation (
  feed TEXT NOT NULL,
  number INTEGER NOT NULL,
  digest TEXT NOT NULL,
  document TEXT NOT NULL,
  PRIMARY KEY (feed, number)
) STRICT, WITHOUT ROWID;

-- The compiled category index in force: the document that names its parts.
CREATE TABLE category_index (
  id INTEGER PRIMARY KEY CHECK (id = 1), digest TEXT NOT NULL, made_at REAL NOT NULL, day INTEGER NOT NULL,
  document TEXT NOT NULL, generations TEXT NOT NULL
) STRICT;
ALTER TABLE device ADD COLUMN applied_index TEXT;

-- When each host was first and last seen on each machine. Visits to test hosts are not counted.
CREATE TABLE host_seen (
  host TEXT NOT NULL,
  device TEXT NOT NULL REFERENCES device (id),
  first REAL NOT NULL,
  last REAL NOT NULL,
  visits INTEGER NOT NULL,
  PRIMARY KEY (host, device)
) STRICT, WITHOUT ROWID;
INSERT INTO host_seen (host, device, first, last, visits)
SELECT host, device, min(first), max(last), sum(visits) FROM (
  SELECT host, device, min(at) AS first, max(at) AS last, count(*) AS visits FROM activity WHERE test = 0 GROUP BY host, device
  UNION ALL
  SELECT host, device, min(hour), max(hour), sum(visits) FROM visit_count
  WHERE host NOT LIKE '%.category.test' GROUP BY host, device
) GROUP BY host, device;

-- Objects that came with indicators and cannot be expressed here, one by one. `owner` is a feed's or a ruleset's key.
CREATE TABLE set_aside (
  id INTEGER PRIMARY KEY,
  owner TEXT NOT NULL,
  object TEXT NOT NULL,
  at REAL NOT NULL,
  name TEXT NOT NULL,
  problem TEXT NOT NULL,
  document TEXT NOT NULL
) STRICT;
CREATE UNIQUE INDEX set_aside_by_object ON set_aside (owner, object);

-- How many indicators there were on each day, for the forecast.
CREATE TABLE indicator_count (
  day INTEGER PRIMARY KEY, most INTEGER NOT NULL, by_hand INTEGER NOT NULL, by_feed INTEGER NOT NULL
) STRICT;

-- of a long ruleset only the rules that differ are kept: where they stood before, and where they stand after
ALTER TABLE change ADD COLUMN places TEXT;

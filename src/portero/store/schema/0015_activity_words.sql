-- What activity says again and again, each once: the ids of devices, hosts, people, rules, programs and such. `day` is the
-- last one (since 1970) on which something said it came: what is older than all activity goes.
CREATE TABLE activity_word (
  id INTEGER PRIMARY KEY, kind TEXT NOT NULL, word TEXT NOT NULL, day INTEGER NOT NULL, UNIQUE (kind, word)
) STRICT;
INSERT INTO activity_word (kind, word, day)
SELECT kind, word, unixepoch() / 86400 FROM (
SELECT DISTINCT 'device' AS kind, device AS word FROM activity
UNION SELECT DISTINCT 'host', host FROM activity WHERE host <> ''
UNION SELECT DISTINCT 'program', program FROM activity WHERE program IS NOT NULL
UNION SELECT DISTINCT 'person', person FROM activity WHERE person IS NOT NULL
UNION SELECT DISTINCT 'start', json_extract(document, '$.start') FROM activity WHERE document ->> '$.start' IS NOT NULL
UNION SELECT DISTINCT 'parent', document ->> '$.parent' FROM activity WHERE document ->> '$.parent' IS NOT NULL
UNION SELECT DISTINCT 'browser', document ->> '$.browser' FROM activity WHERE document ->> '$.browser' IS NOT NULL
UNION SELECT DISTINCT 'categories', json_extract(document, '$.categories') FROM activity
  WHERE json_array_length(document, '$.categories') > 0
UNION SELECT DISTINCT 'rule', json_extract(document, '$.winner') FROM activity WHERE document ->> '$.winner' IS NOT NULL
UNION SELECT DISTINCT 'bundle', document ->> '$.bundle' FROM activity WHERE document ->> '$.bundle' IS NOT NULL);

-- Numbers from `host` on, and the device's, are ids of words. `marks`: 1 the person went on, 2 a log rule matched, 4 a test,
-- 8 found running, 16 ended. A `url` is without its host where that stands between its scheme and its path just so.
CREATE TABLE attempt (
  device INTEGER NOT NULL,
  seq INTEGER NOT NULL,
  at REAL NOT NULL,
  received_at REAL NOT NULL,
  verdict TEXT NOT NULL,
  marks INTEGER NOT NULL,
  host INTEGER,
  url TEXT,
  program INTEGER,
  start INTEGER,
  parent INTEGER,
  person INTEGER,
  browser INTEGER,
  categories INTEGER,
  rule INTEGER,
  bundle INTEGER,
  reference TEXT,
  PRIMARY KEY (device, seq)
) STRICT, WITHOUT ROWID;
INSERT INTO attempt
SELECT
  (SELECT id FROM activity_word WHERE kind = 'device' AND word = device), seq, at, received_at, verdict,
  (document ->> '$.continued' IS 1) + 2 * (document ->> '$.logged' IS 1) + 4 * test
    + 8 * (document ->> '$.running' IS 'found') + 16 * (document ->> '$.running' IS 'ended'),
  (SELECT id FROM activity_word WHERE kind = 'host' AND word = host), document ->> '$.url',
  (SELECT id FROM activity_word WHERE kind = 'program' AND word = program),
  (SELECT id FROM activity_word WHERE kind = 'start' AND word = json_extract(document, '$.start')),
  (SELECT id FROM activity_word WHERE kind = 'parent' AND word = document ->> '$.parent'),
  (SELECT id FROM activity_word WHERE kind = 'person' AND word = person),
  (SELECT id FROM activity_word WHERE kind = 'browser' AND word = document ->> '$.browser'),
  (SELECT id FROM activity_word WHERE kind = 'categories' AND word = json_extract(document, '$.categories')),
  (SELECT id FROM activity_word WHERE kind = 'rule' AND word = json_extract(document, '$.winner')),
  (SELECT id FROM activity_word WHERE kind = 'bundle' AND word = document ->> '$.bundle'),
  reference
FROM activity;
DROP TABLE activity;
ALTER TABLE attempt RENAME TO activity;
CREATE INDEX activity_by_time ON activity (at, device, seq);
CREATE INDEX activity_by_device ON activity (device, at);
CREATE INDEX activity_by_person ON activity (person, at) WHERE person IS NOT NULL;
CREATE INDEX activity_by_reference ON activity (reference) WHERE reference IS NOT NULL;
CREATE INDEX activity_by_rule ON activity (rule, at) WHERE verdict = 'block';

-- How often, hour by hour and day by day (UTC), in seconds since 1970: what was tried, by which rule, what came of it.
-- Tests are left out; what names no host is a start. 0 stands for none.
CREATE TABLE activity_hour (
  hour INTEGER NOT NULL,
  host INTEGER NOT NULL,
  program INTEGER NOT NULL,
  rule INTEGER NOT NULL,
  verdict TEXT NOT NULL,
  attempts INTEGER NOT NULL,
  PRIMARY KEY (hour, host, program, rule, verdict)
) STRICT, WITHOUT ROWID;
CREATE TABLE activity_day (
  day INTEGER NOT NULL,
  host INTEGER NOT NULL,
  program INTEGER NOT NULL,
  rule INTEGER NOT NULL,
  verdict TEXT NOT NULL,
  attempts INTEGER NOT NULL,
  PRIMARY KEY (day, host, program, rule, verdict)
) STRICT, WITHOUT ROWID;
INSERT INTO activity_hour
SELECT CAST(at / 3600 AS INTEGER) * 3600, coalesce(host, 0), coalesce(program, 0), coalesce(rule, 0), verdict, count(*)
FROM activity WHERE marks & 4 = 0 GROUP BY 1, 2, 3, 4, 5;
INSERT INTO activity_day
SELECT hour / 86400 * 86400, host, program, rule, verdict, sum(attempts) FROM activity_hour GROUP BY 1, 2, 3, 4, 5;

-- What administrators author in one table, noun by noun. `position` is where an object stands in its list; parts that an
-- estate has one of (precedence, settings) are rows of their own name.

CREATE TABLE authored (
  noun TEXT NOT NULL,
  key TEXT NOT NULL,
  body TEXT NOT NULL,
  version INTEGER NOT NULL,
  position INTEGER NOT NULL,
  PRIMARY KEY (noun, key)
) STRICT;
CREATE INDEX authored_by_position ON authored (noun, position);

INSERT INTO authored (noun, key, body, version, position)
SELECT 'group', key, document, version, place FROM estate_group
UNION ALL SELECT 'schedule', key, document, version, place FROM schedule
UNION ALL SELECT 'application set', key, document, version, place FROM application_set
UNION ALL SELECT 'ruleset', key, document, version, place FROM ruleset
UNION ALL SELECT 'assignment', key, document, version, place FROM assignment
UNION ALL SELECT 'notice', key, document, version, place FROM notice
UNION ALL SELECT 'correction', key, document, version, place FROM correction
UNION ALL SELECT 'service', key, document, version, place FROM service
UNION ALL SELECT 'layer modes', key, document, version, place FROM layer_modes
UNION ALL SELECT 'coverage row', key, document, version, place FROM coverage_row
UNION ALL SELECT 'probe set', key, document, version, place FROM probe_set
UNION ALL SELECT 'feed', key, document, version, place FROM feed
UNION ALL SELECT name, name, document, version, 0 FROM single;

DROP TABLE assignment;
DROP TABLE estate_group;
DROP TABLE schedule;
DROP TABLE application_set;
DROP TABLE ruleset;
DROP TABLE notice;
DROP TABLE correction;
DROP TABLE service;
DROP TABLE layer_modes;
DROP TABLE coverage_row;
DROP TABLE probe_set;
DROP TABLE feed;
DROP TABLE single;

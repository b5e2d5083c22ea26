-- What a ruleset refused of late, by the ruleset.
CREATE INDEX activity_by_ruleset ON activity (json_extract(document, '$.winner.ruleset'), at) WHERE verdict = 'block';

"""The look-up and corrections: who says what, since when, where it was seen, which rules touch it."""

from __future__ import annotations

import csv
import time

import pytest

from conftest import Wire, assignment, ruleset
from portero.client import ChangedMeanwhile, Invalid, NotFound
from portero.core.nouns.correction import Correction
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.service import Service as WebService

pytestmark = pytest.mark.process


@pytest.fixture(scope="module")
def estate(portero, service):
    """Rules of each kind that touch one host, and a machine that was there."""
    portero.rulesets.create(ruleset("no-gambling", gambling="block"))
    rules = [
        {"host": "lucky-reef.example", "action": "allow"},
        {"url": "https://lucky-reef.example/pay/", "action": "block"},
        {"service": "reef", "action": "warn"},
    ]
    portero.services.create(WebService(key="reef", name="The Reef", hosts=("lucky-reef.example",), suitability=15))
    portero.rulesets.create(Ruleset.model_validate({"key": "hosts", "kind": "indicator", "rules": rules}))
    fed = {"key": "fed", "kind": "indicator", "feed": "watch", "rules": [{"host": "example", "action": "log"}]}
    portero.rulesets.create(Ruleset.model_validate(fed))
    sites = {"key": "sites", "kind": "site", "rules": [{"pattern": "lucky-reef.example", "action": "block"}]}
    portero.rulesets.create(Ruleset.model_validate(sites))
    for key in ("no-gambling", "hosts", "fed", "sites"):
        portero.assignments.create(assignment(key, "whole-fleet", mandatory=key == "no-gambling"))
    return Wire(service, portero, "laptop-1")


def test_a_look_up_tells_all_that_is_known(portero, estate):
    hour = time.strftime("%Y-%m-%dT%H:00:00Z", time.gmtime())
    counts = [{"hour": hour, "host": host, "visits": 3} for host in ("lucky-reef.example", "gambling.category.test")]
    estate.http.post("/activity", json={"batch": 1, "attempts": [], "counts": counts})
    estate.http.post("/activity", json={"batch": 1, "attempts": [], "counts": counts})
    found = portero.categories.look_up("lucky-reef.example")
    assert (found.categories, found.entry, found.source) == (("gambling",), "lucky-reef.example", "index")
    assert (found.devices, found.visits) == (1, 3), "a batch sent again counts once"
    assert found.first_seen is not None
    assert (found.service.key, found.service.suitability) == ("reef", 15)
    assert [test_host.host for test_host in found.test_hosts] == ["gambling.category.test"]
    touching = {(rule.ruleset, rule.selector): rule for rule in found.rules}
    assert touching["no-gambling", "category gambling"].assignments[0].mandatory
    assert touching["hosts", "host lucky-reef.example"].action == "allow"
    assert touching["hosts", "url lucky-reef.example/pay"].part
    assert touching["hosts", "service reef"].assignments[0].targets == ("whole-fleet",)
    assert touching["fed", "host example"].feed == "watch"
    assert ("sites", "pattern lucky-reef.example") in touching
    paid = portero.categories.look_up("https://www.lucky-reef.example/pay/now")
    assert (paid.url, paid.entry) == ("https://www.lucky-reef.example/pay/now", "lucky-reef.example")
    assert "url lucky-reef.example/pay" not in {rule.selector for rule in paid.rules}, "a URL stands for its own host"
    test = portero.categories.look_up("gambling.category.test")
    assert (test.source, test.devices, test.first_seen) == ("test host", 0, None)
    unknown = portero.categories.look_up("nobody.knows.example")
    assert (unknown.categories, unknown.entry, unknown.source) == (("uncategorised",), None, "none")
    with pytest.raises(Invalid):
        portero.categories.look_up("ftp://x.example/")


def test_a_correction_is_made_told_exported_and_taken_back(portero):
    fix = Correction(host="Lucky-Reef.example", categories=("games",), reason="=A quiz, not a casino")
    assert (
        portero.preview(lambda asked: asked.corrections.put(fix)).summary
        == "Would create correction lucky-reef.example"
    )
    made = portero.corrections.put(fix)
    assert (made.host, made.by, made.feeds_say) == ("lucky-reef.example", "keeper", ("gambling",))
    found = portero.categories.look_up("www.lucky-reef.example")
    assert (found.categories, found.source, found.correction.reason) == (("games",), "correction", fix.reason)
    with pytest.raises(ChangedMeanwhile):
        portero.corrections.put(fix, version=made.version - 1)
    changed = portero.corrections.put(fix.model_copy(update={"categories": ("games", "sport")}), version=made.version)
    assert changed.version > made.version
    rows = list(csv.DictReader(portero.corrections.export().splitlines()))
    assert rows[0] | {"at": ""} == {
        "host": "lucky-reef.example",
        "feed_says": "gambling",
        "should_be": "games sport",
        "reason": "'=A quiz, not a casino",
        "by": "keeper",
        "at": "",
    }
    assert [correction.host for correction in portero.corrections.list(q="quiz")] == ["lucky-reef.example"]
    assert list(portero.corrections.list(q="casino royale")) == []
    assert portero.corrections.export(feed="nobody").splitlines() == ["host,feed_says,should_be,reason,by,at"]
    portero.corrections.remove("lucky-reef.example", version=changed.version)
    assert portero.categories.look_up("lucky-reef.example").categories == ("gambling",)
    for host in ("lucky-reef.example", "no host"):
        with pytest.raises(NotFound):
            portero.corrections.get(host)
    with pytest.raises(ValueError, match="is a test host"):
        Correction(host="games.category.test", categories=("sport",))

"""Indicators in bulk through the client: files in and out, what they come to, capacity, clean-up, search."""

from __future__ import annotations

import json
import time

import httpx
import pytest

from conftest import Wire, assignment, signed
from portero.client import BadRequest, Invalid, NotFound
from portero.core.nouns.indicator import RulesEdit
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset

pytestmark = pytest.mark.process
HEAD = "selector,value,exact,action,name,note,valid_until\n"


def made(portero, key: str, *rules: dict[str, object], **more: object) -> None:
    portero.rulesets.create(Ruleset.model_validate({"key": key, "kind": "indicator", "rules": list(rules), **more}))


def names(portero, key: str) -> list[str]:
    return [f"{rule.action} {rule.selector}" for rule in portero.rulesets.get(key).rules]


def test_a_file_is_weighed_before_it_is_put_in(portero, service):
    made(portero, "fraud", {"host": "old.example", "action": "block"}, {"host": "x.example", "action": "warn"})
    made(portero, "wide", {"host": "covered.example", "action": "block"})
    device = Wire(service, portero, "laptop-1")
    hours = [{"hour": time.strftime("%Y-%m-%dT%H:00:00Z", time.gmtime()), "host": "seen.example", "visits": 4}]
    test = {"hour": hours[0]["hour"], "host": "games.category.test", "visits": 9}
    device.http.post("/activity", json={"batch": 1, "attempts": [], "counts": [*hours, test]})
    data = (
        HEAD + "host,old.example,,block,,,\nhost,x.example,,block,,,\nhost,seen.example,,block,Seen,,\n"
        "host,seen.example,,block,,,\nhost,www.covered.example,,block,,,\nhost,over.example,,block,,,2020-01-01T00:00:00Z\n"
        "host,games.category.test,,block,,,\nhost,,,block,,,\ncategory,games,,block,,,\n"
    ).encode()
    report = portero.indicators.weigh("fraud", data)
    assert (report.rules, report.new, report.changed, report.unchanged) == (6, 4, 1, 1)
    assert (report.duplicates, report.ended, report.refused, report.overlapping) == (1, 1, 2, 1)
    assert [(overlap.selector, overlap.other, overlap.ruleset) for overlap in report.overlaps] == [
        ("host www.covered.example", "host covered.example", "wide")
    ]
    assert [line.line for line in report.refused_lines] == [9, 10]
    assert "takes host, url, address" in report.refused_lines[1].problem
    assert [(hit.host, hit.devices, hit.visits) for hit in report.hits] == [("seen.example", 1, 4)], (
        "tests are left out"
    )
    assert (report.hit_hosts, report.hit_devices, report.hit_visits, report.kept) == (1, 1, 4, False)
    assert names(portero, "fraud") == ["block host old.example", "warn host x.example"]

    preview = portero.preview(lambda asked: asked.indicators.put_in("fraud", data))
    assert preview.summary == "Would change ruleset fraud"
    revision = preview.revision
    assert portero.indicators.put_in("fraud", data).kept
    assert names(portero, "fraud") == [
        "block host old.example",
        "block host x.example",
        "block host seen.example",
        "block host www.covered.example",
        "block host over.example",
        "block host games.category.test",
    ]
    assert portero.revisions.get(revision + 1).reason == "4 new and 1 changed rules from a file"


def test_a_round_trip_through_the_service_loses_nothing(portero):
    rules = [
        {"host": "a.example", "exact": True, "action": "allow", "name": "=1+1", "note": '\'=x, "y"\nz'},
        {"url": "https://b.example/drop/?q=1", "action": "warn", "valid_until": "2027-01-31T10:00:00.5Z"},
        {"address": "2001:db8::/64", "action": "block"},
        {"suitability": {"to": 25}, "action": "log"},
        {"decision": "declined", "action": "block"},
    ]
    made(portero, "there", *rules)
    data, left_out = portero.indicators.export("there")
    assert left_out == 0
    made(portero, "back")
    portero.indicators.put_in("back", data)
    assert portero.rulesets.get("back").rules == portero.rulesets.get("there").rules
    assert portero.indicators.export("back")[0] == data
    report = portero.indicators.weigh("back", HEAD.encode(), replace=True)
    assert report.removed == 5
    portero.indicators.put_in("back", HEAD.encode(), replace=True)
    assert names(portero, "back") == []


def test_a_bundle_goes_in_and_out(portero):
    made(portero, "watch", name="The watch")
    objects = [
        {"pattern": "[domain-name:value = 'a.example' OR url:value = 'http://b.example/x']", "name": "Two"},
        {"pattern": f"[file:hashes.'SHA-256' = '{'ab' * 32}']", "name": "A dropper"},
        {"pattern": "[email-addr:value = 'a@b.example']", "name": "A sender"},
    ]
    bundle = {
        "type": "bundle",
        "objects": [
            {
                "type": "indicator",
                "id": f"indicator--{n}",
                "pattern_type": "stix",
                "valid_from": "2026-11-01T00:00:00Z",
                **one,
            }
            for n, one in enumerate(objects)
        ],
    }
    report = portero.indicators.put_in("watch", json.dumps(bundle).encode(), format="stix", action="warn")
    assert (report.new, report.files, report.files_ruleset, report.set_aside) == (2, 1, "watch-files", 1)
    assert names(portero, "watch") == ["warn host a.example", "warn url b.example/x"]
    files = portero.rulesets.get("watch-files")
    assert (files.kind, files.name, [str(rule.selector) for rule in files.rules]) == (
        "startup",
        "The watch",
        [f"sha256 {'ab' * 32}"],
    )
    (aside,) = portero.indicators.aside("watch")
    assert (aside.name, aside.problem) == ("A sender", "nothing here is told by email-addr:value")
    made(portero, "mixed", {"host": "c.example", "action": "block"}, {"decision": "declined", "action": "block"})
    data, left_out = portero.indicators.export("mixed", format="stix")
    assert (left_out, [indicator["pattern"] for indicator in json.loads(data)["objects"]]) == (
        1,
        ["[domain-name:value = 'c.example']"],
    )


@pytest.mark.parametrize(
    ("data", "format", "why"),
    [
        (b"host,a.example\n", "csv", "must name the columns"),
        (b"{}", "stix", "no STIX bundle"),
        (b"\x1f\x8bnothing", "csv", "cut off|damaged"),
    ],
)
def test_a_file_that_is_none_changes_nothing(portero, data, format, why):
    key = f"none-{len(data)}"
    made(portero, key)
    with pytest.raises(BadRequest, match=why):
        portero.indicators.put_in(key, data, format=format)
    assert names(portero, key) == []


def test_rules_are_edited_without_the_others(portero):
    made(portero, "long", *({"host": f"h{n}.example", "action": "block"} for n in range(50)))
    edit = RulesEdit(
        put=(Rule(host="h7.example", action="warn"), Rule(host="new.example", action="block")),
        remove=("host h3.example",),
    )
    assert portero.preview(lambda asked: asked.indicators.edit("long", edit)).summary == "Would change ruleset long"
    portero.indicators.edit("long", edit)
    found = names(portero, "long")
    assert (len(found), found[6], found[-1]) == (50, "warn host h7.example", "block host new.example")
    assert "block host h3.example" not in found
    with pytest.raises(NotFound, match=r"no rule “host h3\.example”"):
        portero.indicators.edit("long", RulesEdit(remove=("host h3.example",)))
    with pytest.raises(Invalid):
        portero.indicators.edit("long", RulesEdit(put=(Rule(category="games", action="block"),)))


def test_what_a_feed_brings_is_nobody_elses_to_change(portero):
    made(portero, "fed", {"host": "fed.example", "action": "block"}, feed="some-feed")
    with pytest.raises(Invalid, match="brought in by the feed “some-feed”"):
        portero.indicators.edit("fed", RulesEdit(put=(Rule(host="a.example", action="block"),)))
    with pytest.raises(Invalid, match="brought in by the feed"):
        portero.indicators.put_in("fed", HEAD.encode())


def test_a_search_goes_over_all_and_tells_who_wrote_what(portero):
    made(
        portero,
        "sought",
        {"host": "sought-1.example", "action": "block", "name": "Needle"},
        {"host": "sought-2.example", "action": "warn", "valid_until": "2020-01-01T00:00:00Z"},
    )
    made(portero, "sought-fed", {"host": "sought-3.example", "action": "block"}, feed="some-feed")
    found = list(portero.indicators.search("SOUGHT"))
    assert [(one.selector, one.feed, one.ended, one.number) for one in found] == [
        ("host sought-1.example", None, False, 1),
        ("host sought-2.example", None, True, 2),
        ("host sought-3.example", "some-feed", False, 1),
    ]
    assert [indicator.selector for indicator in portero.indicators.search("needle")] == ["host sought-1.example"]
    assert len(list(portero.indicators.search("sought", origin="feed"))) == 1
    assert len(list(portero.indicators.search("sought", action="warn"))) == 1
    assert len(list(portero.indicators.search("sought", ended=False))) == 2
    assert len(list(portero.indicators.search(ruleset="sought"))) == 2


def test_a_capacity_is_metered_and_holds(portero, service):
    Wire(service, portero, "laptop-9")
    portero.assignments.create(assignment("sought", "whole-fleet"))
    portero.assignments.create(assignment("sought-fed", "whole-fleet"))
    use = portero.indicators.capacity()
    assert (use.most, use.by_hand, use.by_feed, use.devices) == (3, 2, 1, 2)
    assert use.sentence.startswith("Up to 3 of 200,000 indicators on a machine (0%)")
    with httpx.Client(base_url=service.url + "/api/v1", headers=signed(portero)) as http:
        settings = http.get("/settings").json()
        version = settings.pop("version")
        answer = http.put(
            "/settings", json={**settings, "indicator_capacity": 4}, headers={"If-Match": f'"r{version}"'}
        )
        assert answer.status_code == 200
    hosts = "".join(f"host,more-{n}.example,,block,,,\n" for n in range(3))
    assert portero.indicators.weigh("sought", (HEAD + hosts).encode()).most == 6
    with pytest.raises(
        Invalid, match=r"would have 6 indicators to carry .5 written by hand, 1 from feeds., and may have 4"
    ):
        portero.indicators.put_in("sought", (HEAD + hosts).encode())
    # what is too much already may become less
    portero.indicators.edit("sought", RulesEdit(remove=("host sought-2.example",)))


def test_a_clean_up_takes_out_what_changes_nothing(portero):
    made(
        portero,
        "untidy",
        {"host": "wide.example", "action": "block"},
        {"host": "www.wide.example", "action": "block"},
        {"host": "other.wide.example", "action": "warn"},
        {"host": "gone.example", "action": "block", "valid_until": "2020-01-01T00:00:00Z"},
    )
    found = portero.indicators.cleanable(ruleset="untidy")
    assert [(item.selector, item.reason, item.by) for item in found.items] == [
        ("host www.wide.example", "overshadowed", "host wide.example in untidy"),
        ("host gone.example", "ended", None),
    ]
    assert [item.selector for item in portero.indicators.cleanable(reasons=["ended"], ruleset="untidy").items] == [
        "host gone.example"
    ]
    assert portero.preview(lambda asked: asked.indicators.clean_up(ruleset="untidy")).verdicts == ()
    portero.indicators.clean_up(ruleset="untidy")
    assert names(portero, "untidy") == ["block host wide.example", "warn host other.wide.example"]

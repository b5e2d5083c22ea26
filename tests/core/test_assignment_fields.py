"""What each field of an assignment is for: it decides something, or it tells people something."""

from __future__ import annotations

import pytest

from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.resolving.compiling import compile_bundle

OTHER = {
    "action": "warn",
    "mandatory": True,
    "people": {"users": ["office-1"]},
    "schedule": "watch",
    "place": "off-site",
    "starts": "2026-12-01T00:00:00Z",
    "ends": "2027-12-01T00:00:00Z",
    "until_restart": True,
    "replaces_weaker": True,
    "state": "paused",
    "notice": "bridge",
    "owner": "it-desk",
    "reason": "Owners' decision",
    "ticket": "CR-1204",
    "report_presence": True,
    "end_running": True,
    "hold_back": "P7D",
    "members": ["a" * 64],
    "came": [{"program": "a" * 64, "at": "2026-12-01T00:00:00Z"}],
}
"""Another value of each field beside those that name an assignment, its ruleset and its targets."""
PLAIN = {"key": "a", "ruleset": "r", "to": ["whole-fleet"]}


def bundle_with(**fields: object):
    document = {
        "portero": 1,
        "rulesets": [{"key": "r", "kind": "category", "rules": [{"category": "news", "action": "block"}]}],
        "schedules": [{"key": "watch", "windows": [{"days": ["mon"], "from": "06:00", "to": "18:00"}]}],
        "notices": [{"key": "bridge", "title": "The bridge", "text": "is for navigation"}],
        "assignments": [PLAIN | fields],
    }
    return compile_bundle(Estate.model_validate(document), ("whole-fleet",))


def test_every_field_is_here():
    assert set(OTHER) | set(PLAIN) == set(Assignment.model_fields)
    assert set(OTHER) >= Assignment.told_only


@pytest.mark.parametrize("name", OTHER)
def test_a_field_changes_the_bundle_unless_it_only_tells(name):
    # an exception needs a reason and an end, which come with it on both sides
    beside = {"ends": OTHER["ends"], "reason": "x"} if name == "owner" else {}
    if name in ("members", "came"):
        beside = {"hold_back": "P7D"}
    same = bundle_with(**beside) == bundle_with(**beside, **{name: OTHER[name]})
    assert same is (name in Assignment.told_only)

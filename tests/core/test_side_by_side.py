"""Two machines, and two revisions, side by side: what decides is what, changed alone, makes the difference."""

from __future__ import annotations

import pytest
from ways import WAYS, Way, base, policy, replaced, sites

from portero.core.insight.side_by_side import by_earlier, now_and_earlier, two_machines
from portero.core.nouns.device import Lifecycle
from portero.core.nouns.estate import Estate

BLOCKED = Way(0, "plain", WAYS[0].code)
PATTERN = {"pattern": "reel-play.example", "action": "block"}
FOREIGN = {"browsers": policy(state="foreign")}


def deciding(first: Way, second: Way = BLOCKED) -> list[str]:
    found = two_machines(first.question(), second.question())
    return [one.what for one in found.differing if one.decides]


def other(**more) -> Way:
    return BLOCKED._replace(**more)


@pytest.mark.parametrize(
    ("way", "what"),
    [
        (other(facts={"layers": {"filter": "off", "browser": "enforcing", "startup": "enforcing"}}), "layers"),
        (other(machine={"current": False, "held_before": True}), "bundle"),
        (other(estate={"settings": {"gateway_networks": ["192.0.2.0/24"]}}), "network"),
        (
            other(estate=sites(PATTERN), facts={"browsers": policy(state="foreign")}, attempt={"browser": "chromium"}),
            "browsers",
        ),
    ],
    ids=["layers", "bundle", "network", "browsers"],
)
def test_the_difference_that_decides_is_told(way, what):
    healthy = other(
        estate=way.estate, attempt=way.attempt, facts={"addresses": ["198.51.100.7"]} if what == "network" else {}
    )
    found = two_machines(way.question(), healthy.question())
    assert [one.what for one in found.differing if one.decides] == [what]
    assert found.sentence.endswith(f"{what} alone would make the difference.")
    assert (found.first.effective, found.second.effective) == ("allow", "block")


def test_groups_decide_where_rules_differ_and_nothing_where_the_outcome_is_the_same():
    estate = {"assignments": [{"key": "a", "ruleset": "no-games", "to": ["office"]}]}
    on_board = other(estate=estate, facts={"unit": "brackwater/ships/tidewren"})
    assert deciding(on_board, other(estate=estate)) == ["groups"]
    same = two_machines(BLOCKED.question(), other(facts={"zone": "Atlantic/Faroe"}).question())
    assert same.sentence == "Both come to block."
    assert [(one.what, one.decides) for one in same.differing] == [("time zone", False)]


def test_a_clock_is_told_by_how_far_it_is_off():
    (told,) = two_machines(other(facts={"clock_ahead": -7_200}).question(), BLOCKED.question()).differing
    assert (told.what, told.first, told.second) == ("clock", "2 hours behind", "right")


def test_what_several_differences_make_together_is_told_as_that():
    layers = {"filter": "off", "browser": "enforcing", "startup": "enforcing"}
    both = other(facts={"layers": layers}, machine={"current": False, "held_before": True})
    found = two_machines(both.question(), BLOCKED.question())
    assert "no single difference" in found.sentence


def test_a_machine_that_never_joined_differs_in_that():
    way = other(machine={"lifecycle": Lifecycle.INVITED, "applied": None})
    assert "lifecycle" in {one.what for one in two_machines(way.question(), BLOCKED.question()).differing}


def test_an_earlier_revision_is_judged_on_the_machine_as_it_is():
    question = BLOCKED.question()
    before = by_earlier(question, Estate.model_validate({**base(), "assignments": []}))
    found = now_and_earlier(question, 42, before, 40, None)
    assert (found.now.effective, found.earlier.effective) == ("block", "allow")
    assert found.sentence == "It comes to block now, and came to allow then: rules alone would make the difference."
    assert [(one.what, one.second) for one in found.differing] == [("rules", "those of revision 40")]
    same = now_and_earlier(replaced(question), 42, by_earlier(question, question.estate), 41, None)
    assert same.sentence == "It comes to block, as it did then."

"""The generated sentences: what each noun does, in words that people would use."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import pytest

from portero.core import sentences, wording
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.caveat import CaveatCode
from portero.core.nouns.readiness import BlockerCode
from portero.core.nouns.revision import Change
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.schedule import Schedule
from portero.core.nouns.verdict import Aside, RuleReference, Rung


def ruleset(kind: str, *rules: dict) -> Ruleset:
    return Ruleset.model_validate({"key": "r", "kind": kind, "rules": list(rules)})


@pytest.mark.parametrize(
    ("kind", "rules", "said"),
    [
        ("category", [], "Does nothing yet: it has no rules."),
        (
            "category",
            [{"everything": True, "action": "block"}, {"category": "news", "action": "allow"}],
            "Allows News; blocks everything else.",
        ),
        (
            "category",
            [{"search_term": "Cheat  Codes", "action": "warn"}, {"media_type": "video/*", "action": "block"}],
            "Blocks video/* content; warns on searches for “cheat codes”.",
        ),
        (
            "indicator",
            [
                {"host": "a.example", "exact": True, "action": "block"},
                {"url": "https://b.example/x/", "action": "block"},
                {"suitability": {"from": 10, "to": 20}, "action": "log"},
                {"decision": "declined", "action": "block"},
            ],
            "Blocks a.example alone, b.example/x and services that are declined; only records services with suitability"
            " 10–20.",
        ),
        (
            "site",
            [{"pattern": "*", "action": "block"}, {"pattern": "a.example", "action": "allow"}],
            "Allows a.example; blocks every other site.",
        ),
        (
            "startup",
            [{"application_set": "tools", "action": "warn"}, {"sha256": "a" * 64, "action": "block"}],
            "Blocks the program aaaaaaaaaaaa…; warns on the programs of tools.",
        ),
        (
            "indicator",
            [{"host": f"h{n}.example", "action": "block"} for n in range(9)],
            "Blocks h0.example, h1.example, h2.example, h3.example and 5 more hosts.",
        ),
    ],
)
def test_a_ruleset_says_what_it_does_the_strictest_first_and_the_rest_last(kind, rules, said):
    assert sentences.ruleset_sentence(ruleset(kind, *rules)) == said


def test_an_assignment_says_where_for_whom_when_and_how_strongly():
    def said(**conditions: object) -> str:
        own = {"key": "a", "ruleset": "r", "to": ["ships", {"device": "pc-1"}], **conditions}
        rules = ruleset("category", {"category": "games", "action": "block"}, {"category": "news", "action": "allow"})
        return sentences.assignment_sentence(Assignment.model_validate(own), rules)

    assert said() == "On ships and pc-1: blocks Games; allows News."
    assert said(action="warn") == "On ships and pc-1: warns on Games; allows News."
    assert said(action="log") == "On ships and pc-1: only records Games and News."
    assert said(people={"users": ["a"], "user_groups": ["crew"]}).startswith("On ships and pc-1, for a and crew: ")
    assert ", during rest: " in said(schedule="rest")
    assert ", until 2026-12-01 10:00 UTC: " in said(ends="2026-12-01T12:00:00+02:00")
    assert ", draft and so not in force: " in said(state="draft")


@pytest.mark.parametrize(
    ("window", "said"),
    [
        ({"days": ["mon", "tue", "wed"], "from": "06:00", "to": "18:00"}, "Monday to Wednesday 06:00 to 18:00"),
        ({"days": ["sat", "mon"], "from": "22:00", "to": "06:00"}, "Monday and Saturday 22:00 to 06:00 the next day"),
        ({"days": ["fri"], "from": "18:00", "to": "00:00"}, "Friday 18:00 to midnight"),
        (
            {"days": ["mon", "tue", "wed", "thu", "fri", "sat", "sun"], "from": "08:00", "to": "08:00"},
            "Every day 08:00 to 08:00 the next day",
        ),
    ],
)
def test_a_schedule_says_its_windows(window, said):
    made = Schedule.model_validate({"key": "x", "windows": [window]})
    assert sentences.schedule_sentence(made) == f"{said}, on each machine's own clock."


def test_a_schedule_says_what_it_does_now_on_its_own_clock():
    change = datetime(2026, 11, 27, 17, tzinfo=UTC)
    assert sentences.schedule_now(True, change, ZoneInfo("Europe/Berlin")) == "Open; closes Friday 2026-11-27 18:00."
    assert sentences.schedule_now(False, None, ZoneInfo("UTC")) == "Closed; it does not change within a year."


def test_an_application_set_says_which_programs():
    made = ApplicationSet.model_validate(
        {
            "key": "x",
            "following": False,
            "frozen_members": ["a" * 64],
            "include": [{"product": "Viewer", "version": {"from": "4", "below": "5"}}, {"sha256": "b" * 64}],
            "exclude": [{"signer": "IT"}],
        }
    )
    said = sentences.application_set_sentence(made)
    assert said == (
        "1 program with product Viewer and version at least 4 and below 5 or sha256 bbbbbbbbbbbb…, but not signer IT;"
        " frozen, 1 by SHA-256."
    )


def test_a_set_of_many_files_and_conditions_is_said_by_their_numbers():
    files = [{"sha256": f"{number:064x}"} for number in range(1312)]
    made = ApplicationSet.model_validate({"key": "x", "include": [{"product": "Viewer"}, *files]})
    assert sentences.application_set_sentence(made) == (
        "Programs with product Viewer or one of 1,312 SHA-256 digests; takes in what is found later."
    )
    products = [{"product": f"Viewer {number}"} for number in range(30)]
    said = sentences.application_set_sentence(ApplicationSet.model_validate({"key": "x", "exclude": products}))
    assert said.endswith("product Viewer 19 or one of 10 more conditions; takes in what is found later.")


RULE = {"ruleset": "a", "rule": 1, "assignment": "a--x", "target": "x", "action": "block", "mandatory": False}


@pytest.mark.parametrize("rung", list(Rung))
def test_every_rung_has_a_sentence_that_names_the_winner(rung):
    loser, winner = (
        RuleReference.model_validate({**RULE, "ruleset": key, "target": target, "selector": selector})
        for key, target, selector in (("lost", "weak", "family pastime"), ("won", "strong", "host a.example"))
    )
    said = sentences.lost_because(loser, winner, rung)
    assert "{" not in said
    assert "won" in said or "strong" in said or "stricter" in said


@pytest.mark.parametrize("reason", list(Aside))
def test_every_reason_to_be_left_aside_has_a_sentence(reason):
    rule = RuleReference.model_validate({**RULE, "selector": "category games"})
    assert sentences.aside_because(rule, reason).startswith("a on x would match, but ")


WITH_WORDS_OF_THEIR_OWN = (
    CaveatCode.FACT_MISSING,
    CaveatCode.LAYER_TOO_OLD,
    CaveatCode.PLATFORM_TOO_OLD,
    CaveatCode.BROWSER_TOO_OLD,
    CaveatCode.BROWSER_MISSING,
    CaveatCode.LIST_TRUNCATED,
    CaveatCode.PATTERN_CHANGED,
    CaveatCode.POLICY_UNWRITTEN,
    CaveatCode.POLICY_OVERRIDDEN,
    CaveatCode.RESTART_NEEDED,
    CaveatCode.TAMPERED,
    CaveatCode.PASSED_BY,
    CaveatCode.CLOCK_OFF,
)


def test_no_sentence_about_a_machine_has_a_gap_in_it():
    for code in CaveatCode:
        if code not in WITH_WORDS_OF_THEIR_OWN:
            caveat = sentences.caveat(code)
            assert caveat.detail.endswith(".")
            assert caveat.remedy.endswith(".")
    for code in BlockerCode:
        for about in (None, "gullwing 7.2"):
            words = sentences.blocker(code, "filter", about)
            assert "{" not in "".join(words)
            assert words.link.startswith("/")
        one, many = (sentences.blocked_machines(code, "filter", devices) for devices in (1, 4))
        assert one.startswith("1 machine ")
        assert many.startswith("4 machines ")
        assert one.removeprefix("1 machine ") != many.removeprefix("4 machines ")
        assert "{" not in one + many
    for facts in (["zone"], ["zone", "place"], ["zone", "place", "last_start"]):
        assert "{" not in sentences.facts_missing("filter", facts).detail


def test_a_revision_is_summed_up_in_one_sentence():
    def change(noun: str, verb: str, key: str, **sides: object) -> Change:
        return Change.model_validate({"noun": noun, "verb": verb, "key": key, **sides})

    to = {"ruleset": "r", "to": ["ships", {"device": "pc-1"}]}
    assert sentences.summary_of([change("assignment", "created", "a", after=to)]) == "Assigned r to ships and pc-1"
    assert sentences.summary_of([]) == "Changed nothing"
    many = [change("schedule", "created", f"s{n}") for n in range(3)] + [change("service", "removed", "x")]
    assert sentences.summary_of(many) == "Created 3 schedules and removed 1 service"


@pytest.mark.parametrize(
    ("before", "after", "told"),
    [
        (
            [{"host": "drop.example", "action": "block", "name": "The drop"}],
            [{"host": "other.example", "action": "block", "name": "The drop"}],
            ["“The drop” blocks other.example in place of drop.example, which it no longer blocks"],
        ),
        (
            [{"host": "a.example", "action": "block"}, {"host": "b.example", "action": "warn"}],
            [{"host": "a.example", "action": "block"}, {"host": "c.example", "action": "warn"}],
            ["warns on c.example in place of b.example, which it no longer warns on"],
        ),
        (
            [{"host": "b.example", "action": "warn"}],
            [{"host": "c.example", "action": "block"}],
            ["blocks c.example", "no longer warns on b.example"],
        ),
        (
            [{"host": "a.example", "action": "block"}],
            [{"host": "b.example", "action": "block"}, {"host": "c.example", "action": "block"}],
            ["blocks b.example", "blocks c.example", "no longer blocks a.example"],
        ),
    ],
)
def test_a_rule_that_names_something_else_says_what_it_no_longer_stops(before, after, told):
    documents = [{"key": "x", "kind": "indicator", "rules": some} for some in (before, after)]
    change = Change(noun="ruleset", key="x", verb="changed", before=documents[0], after=documents[1])
    assert list(sentences.change_details(change)) == told


@pytest.mark.parametrize(
    ("words", "sentence"),
    [
        ("there is no group “x”", "There is no group “x”."),
        ("estate.yaml: line 2 is wrong", "estate.yaml: line 2 is wrong."),
        ("reeltide.example is in Video streaming", "reeltide.example is in Video streaming."),
        ("https://reeltide.example/ is no host", "https://reeltide.example/ is no host."),
        ("done.", "Done."),
    ],
)
def test_a_sentence_leaves_names_of_files_and_hosts_as_they_are(words: str, sentence: str) -> None:
    assert wording.as_sentence(words) == sentence


def test_what_would_be_done_is_told_in_its_own_tense():
    def change(noun: str, verb: str, key: str, **sides: object) -> Change:
        return Change.model_validate({"noun": noun, "verb": verb, "key": key, **sides})

    to = {"ruleset": "r", "to": ["ships"]}
    made = [change("ruleset", "created", "r"), change("assignment", "created", "a", after=to)]
    assert sentences.summary_of(made, ahead=True) == "Would create ruleset r and assign r to ships"
    draft = change("assignment", "created", "a", after={**to, "state": "draft"})
    assert sentences.change_sentence(draft) == "assigned r to ships as a draft, which does nothing yet"
    paused = change("assignment", "changed", "a", before={**to, "state": "active"}, after={**to, "state": "paused"})
    assert sentences.change_sentence(paused, ahead=True) == "would pause assignment a"
    many = [change("schedule", "removed", f"s{number}") for number in range(4)]
    assert sentences.summary_of(many, ahead=True) == "Would remove 4 schedules"
    assert sentences.summary_of([], ahead=True) == "Would change nothing"


def test_the_only_rule_there_is_needs_no_else():
    assert sentences.ruleset_sentence(ruleset("category", {"everything": True, "action": "block"})) == (
        "Blocks everything."
    )
    assert sentences.ruleset_sentence(ruleset("site", {"pattern": "*", "action": "block"})) == "Blocks every site."


def test_what_came_by_itself_is_told_with_its_versions_the_first_by_name():
    programs = [("Hawser", ("2.0", "2.1"), 7), ("Tide", (), 1), *((f"P{number}", ("1",), 1) for number in range(6))]
    assert sentences.came_by_itself(programs[:2], datetime(2026, 11, 1, tzinfo=UTC)) == (
        "Since it was last written (2026-11-01) it took in by itself: Hawser 2.0 and 2.1 on 7 machines and"
        " Tide on 1 machine."
    )
    assert sentences.came_by_itself(programs, datetime(2026, 11, 1, tzinfo=UTC)).endswith(
        "P3 1 on 1 machine and 2 more."
    )

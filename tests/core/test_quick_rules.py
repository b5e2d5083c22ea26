"""Rules in few words: what words mean, and where the rules are kept."""

from __future__ import annotations

import pytest

from portero.core.insight.quick_rules import write_quick_rules
from portero.core.insight.quick_words import Known, QuickWordProblem, meaning_of
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.device import Application
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import Group
from portero.core.nouns.quick_rule import QuickRules

HASH = "a" * 64
PEOPLE = Directory.model_validate(
    {"users": ["mate", "purser"], "user_groups": [{"key": "deck", "users": ["mate"]}, {"key": "purser"}]}
)
PROGRAMS = (
    Application(product="Chess Club", file="chess.exe", version="2.1"),
    Application(product="Tide Table", file="tides"),
)


def known(estate: Estate | None = None) -> Known:
    machines = {"desk-1": "desk-1", "desks": "desks", "1f2e": "1f2e"}
    return Known(estate or ESTATE, lambda: PROGRAMS, machines.get, PEOPLE)


ESTATE = Estate(
    groups=(Group(key="ships"), Group(key="desks")),
    application_sets=(
        ApplicationSet.model_validate({"key": "games", "include": [{"category": "games"}]}),
        ApplicationSet.model_validate({"key": "tides", "include": [{"product": "TIDE TABLE"}]}),
    ),
)


def written(estate: Estate = ESTATE, **asked):
    return write_quick_rules(QuickRules.model_validate({"action": "block", "on": ["ships"], **asked}), known(estate))


@pytest.mark.parametrize(
    ("word", "meant"),
    [
        ("chess.example", "host:chess.example"),
        ("CHESS.Example", "host:CHESS.Example"),
        ("https://chess.example/play?x=1", "url:https://chess.example/play?x=1"),
        ("203.0.113.7", "address:203.0.113.7"),
        ("2001:db8::/32", "address:2001:db8::/32"),
        ("gambling", "category:gambling"),
        ("Gambling", "category:gambling"),
        ("pastime", "family:pastime"),
        ("chess club", "program:chess club"),
        ("chess.exe", None),
        (HASH, f"program:{HASH}"),
        ("ftp://files.example", "pattern:ftp://files.example"),
        ("host:intranet", "host:intranet"),
        ("program:games", "program:games"),
        ("category:games", "category:games"),
    ],
)
def test_a_word_is_read_as_what_it_can_only_be(word, meant):
    if meant is None:
        # a file that machines have, and a host as it is written
        with pytest.raises(QuickWordProblem, match=r"may mean program:chess\.exe or host:chess\.exe; say which"):
            meaning_of(word, known())
    else:
        assert str(meaning_of(word, known())) == meant


@pytest.mark.parametrize(
    ("word", "told"),
    [
        ("games", "“games” may mean category:games or program:games; say which"),
        ("chess.example/play", "url:chess.example/play or pattern:chess.example/play"),
        ("*.chess.example", r"host:chess.example or pattern:\*.chess.example"),
        ("gamblin", r"there is no category, host or program “gamblin”; did you mean “gambling”\?$"),
        ("intranet", "there is no category, host or program “intranet”; write it such as"),
        ("program:nothing", "there is no program “nothing”"),
        ("host:not a host", "host:not a host: .*is not a web host"),
        ("category:nothing", "there is no category “nothing”"),
    ],
)
def test_what_means_nothing_or_too_much_is_refused_with_what_to_write(word, told):
    with pytest.raises(QuickWordProblem, match=told):
        written(what=[word])


def test_rules_are_kept_by_kind_and_place_and_the_last_word_counts():
    first = written(what=["chess.example", "category:games", "gambling", "pattern:chess.example/play"])
    assert [(rule.kind, rule.ruleset, rule.made) for rule in first.kept] == [
        ("indicator", "quick-indicator-ships", True),
        ("category", "quick-category-ships", True),
        ("category", "quick-category-ships", True),
        ("site", "quick-site-ships", True),
    ]
    assert not list(first.estate.faults())
    second = written(first.estate, what=["gambling", "news"], action="allow", until="2026-12-01T00:00:00Z")
    assert [(rule.ruleset, rule.made, rule.before) for rule in second.kept] == [
        ("quick-category-ships", False, "block"),
        ("quick-category-ships", False, None),
    ]
    rules = second.estate.ruleset_by_key["quick-category-ships"].rules
    assert [(str(rule.selector), rule.action.value, rule.valid_until is not None) for rule in rules] == [
        ("category games", "block", False),
        ("category gambling", "allow", True),
        ("category news", "allow", True),
    ]
    assert len(second.estate.assignments) == 3
    assert written(second.estate, what=["category:games"]).estate == second.estate, "it is so already"


def test_other_places_and_other_people_have_rulesets_of_their_own():
    everybody = written(what=["gambling"]).estate
    some = written(everybody, what=["gambling"], people=["deck", "MATE"])
    assert [rule.ruleset for rule in some.kept] == ["quick-category-ships-2"]
    people = some.estate.assignments[-1].people
    assert (people.users, people.user_groups) == (("MATE",), ("deck",))
    both = written(some.estate, what=["news"], on=["desk-1", "ships", "group:desks"], people=["deck", "MATE"])
    assert [(rule.ruleset, rule.on) for rule in both.kept] == [
        ("quick-category-desk-1", "desk-1"),
        ("quick-category-ships-2", "ships"),
        ("quick-category-desks", "desks"),
    ]
    # who changes what it reaches has made something else of it
    changed = everybody.assignments[0].model_copy(update={"mandatory": True})
    other = written(everybody.replacing(assignments=(changed,)), what=["news"])
    assert [rule.ruleset for rule in other.kept] == ["quick-category-ships-2"]


@pytest.mark.parametrize(
    ("asked", "told"),
    [
        ({"on": ["desks"]}, "“desks” may mean group:desks or device:desks; say which"),
        ({"on": ["shps"]}, r"there is no group or machine “shps”; did you mean “ships”\?$"),
        ({"people": ["purser"]}, "“purser” may mean user-group:purser or user:purser; say which"),
        ({"people": ["cook"]}, "there is no person or user group “cook”"),
        ({"what": ["pattern:chess.example"], "action": "warn"}, "rules of kind site allow or block, not warn"),
        ({"what": ["co.uk"], "action": "allow"}, "is a public suffix"),
    ],
)
def test_places_people_and_actions_that_do_not_fit_are_refused(asked, told):
    with pytest.raises(QuickWordProblem, match=told):
        written(**{"what": ["gambling"], **asked})


def test_a_program_is_a_set_or_a_hash_or_a_product_for_which_a_set_is_made():
    found = written(what=["program:games", HASH, "tide table", "chess club", "CHESS CLUB"], on=["1f2e"])
    assert [rule.selector for rule in found.kept] == [
        "application_set games",
        f"sha256 {HASH}",
        "application_set tides",
        "application_set chess-club",
        "application_set chess-club",
    ]
    assert found.application_sets == ["chess-club"]
    made = found.estate.application_set_by_key["chess-club"]
    assert (made.name, made.include[0].product, made.following) == ("Chess Club", "Chess Club", True)
    assert not list(found.estate.faults())

"""The parts that previews and findings are made of: subjects, circumstances, what a state is cut down to."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from judging import assigned, rules

from made_estates import BASE, Maker
from portero.core.insight.effects.circumstances import Calendar, people_of
from portero.core.insight.effects.subjects import KnownSubjects, programs_of, subjects_of, url_of
from portero.core.matching.applications import SetTest, Started
from portero.core.matching.windows import Windows
from portero.core.nouns.action import Action
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.nouns.patterns import Pattern, SeenUrl
from portero.core.nouns.preview import Effect, effect_of
from portero.core.nouns.rule import Rule
from portero.core.nouns.schedule import Schedule
from portero.core.nouns.urls import parse_visit

GAMES = rules("category", {"category": "games", "action": "block"})


@given(
    scheme=st.sampled_from(["", "http://", "https://"]),
    host=st.sampled_from(["*", "shop.example", ".shop.example", "a.b.example"]),
    port=st.sampled_from(["", ":8443"]),
    tail=st.sampled_from(["", "/", "/a", "/a/.", "/a/..", "/.x", "/a/b?x=1", "/?x=1&y", "/a?tag=*"]),
)
@settings(max_examples=200)
def test_a_site_pattern_is_shown_by_a_visit_that_it_holds(scheme, host, port, tail):
    if host == "*" and port:
        return
    try:
        pattern = Pattern.of(f"{scheme}{host}{port}{tail}")
    except ValueError:
        return
    assert pattern.holds(SeenUrl.of(parse_visit(url_of(pattern))), allow=False)


@pytest.mark.parametrize("seed", range(60))
def test_a_set_is_shown_by_programs_that_it_holds(seed):
    known = KnownSubjects((), (), (), list, {})
    written = map(ApplicationSet.model_validate, Maker(seed).estate()["application_sets"])
    sets = {one.key: one for one in written}
    for application_set in sets.values():
        for program in programs_of(application_set, sets, {}, known):
            fit = SetTest(application_set, sets).fit(Started.of(program, {}, {}))
            assert fit.narrowness is not None, (application_set, program)


def test_what_a_rule_stands_for():
    known = KnownSubjects((), (), (), list, {})

    def shown(kind: str, **rule) -> list[str]:
        selector = Rule.model_validate({**rule, "action": "block"}).selector
        return [one.url or one.name for one in subjects_of(kind, selector, known)]

    assert shown("category", category="games") == ["http://games.category.test/"]
    assert len(shown("category", everything=True)) == 45
    assert shown("indicator", url="https://files.example:8443/a?b=1") == ["http://files.example:8443/a?b=1"]
    assert shown("indicator", address="2001:db8::/32") == ["http://[2001:db8::]/"]
    assert shown("indicator", service="nobody") == []
    assert shown("startup", everything=True) == ["any-other-program"]


@pytest.mark.parametrize("seed", range(12))
def test_every_state_of_the_clock_has_one_moment(seed):
    """Beside a look at every five minutes of eight days: no state is missing, and none is there twice."""
    estate = Estate.model_validate(Maker(seed).estate())
    zone = "Europe/Berlin"
    windows = [Windows.of(schedule) for schedule in estate.schedules]
    starts = [one for each in estate.assignments for one in (each.starts, each.ends) if one]
    ends = [rule.valid_until for ruleset in estate.rulesets for rule in ruleset.rules if rule.valid_until]
    over = [one.at + each.hold_back for each in estate.assignments for one in each.came]
    instants = sorted({*starts, *ends, *over})
    calendar = Calendar([(f"hours-{place}", one) for place, one in enumerate(windows)], instants, BASE)

    def state(at: datetime) -> tuple:
        return sum(instant <= at for instant in instants), tuple(window.is_open(at, zone) for window in windows)

    found = [state(moment.at) for moment in calendar.moments(zone)]
    assert len(found) == len(set(found))
    assert found[0] == state(BASE)
    seen = {state(BASE + timedelta(minutes=5 * number)) for number in range(12 * 24 * 7)}
    assert seen <= set(found)


def test_days_off_are_looked_beyond():
    friday = {"key": "fridays", "zone": "Europe/Berlin", "windows": [{"days": ["fri"], "from": "00:00", "to": "18:00"}]}
    for off in ([], ["2026-11-27"], ["2026-11-27", "2026-12-04", "2026-12-11"]):
        windows = Windows.of(Schedule.model_validate({**friday, "days_off": off}))
        moments = Calendar([("fridays", windows)], (), datetime(2026, 11, 24, 8, tzinfo=UTC)).moments()
        assert [moment.opened for moment in moments] == [frozenset(), {"fridays"}]
        assert [moment.since for moment in moments] == [None, None]


def test_people_are_told_apart_as_assignments_tell_them_apart():
    directory = Directory.model_validate(
        {
            "users": ["ann", "bob", "cid", "dan"],
            "user_groups": [
                {"key": "crew", "users": ["dan"], "user_groups": ["pursers"]},
                {"key": "pursers", "users": ["ann", "bob"]},
                {"key": "others", "users": ["cid"]},
            ],
        }
    )
    people = {"users": ["Bob"], "user_groups": ["crew", "Watch"]}
    estate = assigned((GAMES, "weak", {"people": people}))
    found = people_of([estate], directory)
    # the directory knows no Watch
    assert [one.words for one in found] == [None, "bob", "people in crew"]
    assert found[1].user_groups == {"pursers", "crew"}
    assert people_of([assigned((GAMES, "weak"))], directory) == found[:1]


def test_each_pair_of_words_has_one_effect():
    words = tuple(Action)
    table = {(word, other): effect_of(word, other) for word in words for other in words if word != other}
    assert {pair for pair, effect in table.items() if effect is Effect.RELEASED} == {
        *(("warn", "allow"), ("block", "allow"), ("warn", "log"), ("block", "log")),
    }
    assert table["block", "warn"] is Effect.SOFTENED
    assert table["log", "block"] is table["warn", "block"] is Effect.STOPPED
    assert (table["allow", "log"], table["log", "allow"]) == (Effect.RECORDED, Effect.UNRECORDED)
    assert table["log", "warn"] is Effect.WARNED

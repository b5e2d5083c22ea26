"""Overlaps: each outcome against what the machine itself would decide, and what can be typed in."""

from __future__ import annotations

from collections import Counter
from itertools import combinations

import pytest
from judging import assigned, rules
from worlds import Fleet, made, word

from portero.core.insight.effects.subjects import OTHER_PROGRAM, Subject
from portero.core.insight.overlaps import overlap, shared_devices, typed_subjects
from portero.core.nouns.board import Overlap
from portero.core.nouns.device import Application
from portero.core.nouns.estate import Estate
from portero.core.nouns.urls import BadUrl
from portero.core.nouns.web_taxonomy import TAXONOMY

PROGRAMS = [
    Application(product="Deckhand Viewer", file="viewer", version="4.1"),
    Application(product="Deckhand Viewer", file="viewer", version="4.2"),
    Application(file="chart"),
]


def compared(estate: Estate, fleet: Fleet, *targets: str, typed: list[Subject] | None = None) -> Overlap:
    """What the targets come to on the machines that are in all of them."""
    groups = fleet.groups(estate)
    held = [member for member in fleet.members if set(targets) <= {*groups[member.id], member.facts.hostname}]
    return overlap(estate, fleet.world(estate), targets, held, typed or [])


@pytest.mark.parametrize("part", range(3))
def test_each_outcome_is_what_its_machine_decides(part):
    seen: Counter[str] = Counter()
    for seed in range(part, 45, 3):
        _, estate, fleet = made(seed)
        # nothing restarts here, so nothing may hold until then
        lasting = [assignment.model_copy(update={"until_restart": False}) for assignment in estate.assignments]
        estate = estate.replacing(assignments=tuple(lasting))
        offline = fleet.offline(estate)
        for pair in combinations(estate.group_order[:4], 2):
            found = compared(estate, fleet, *pair)
            for row in found.rows:
                kind, _, name = row.subject.partition(" ")
                more = {kind: name} if kind in ("search_term", "media_type") else {}
                for outcome in row.outcomes if row.url else ():
                    if (outcome.user or "").startswith("somebody in"):
                        continue
                    person = {"user": outcome.user} if outcome.user else {}
                    attempt = {
                        "device": outcome.device,
                        "url": row.url,
                        "at": outcome.at.isoformat(),
                        "place": outcome.place,
                    }
                    assert word(offline, {**attempt, **person, **more}) == outcome.verdict.value, (seed, row, outcome)
                    seen[outcome.verdict.value] += 1
    assert min(seen[word] for word in ("allow", "warn", "block", "log")) > 10, seen


@pytest.mark.parametrize("seed", range(12))
def test_outcomes_of_a_row_count_each_circumstance_on_each_machine_at_least_once(seed):
    _, estate, fleet = made(seed)
    for target in estate.group_order[:4]:
        found = compared(estate, fleet, target)
        for row in found.rows:
            always = [outcome for outcome in row.outcomes if outcome.when is None]
            assert sum(outcome.devices for outcome in always) <= found.devices
            if len(always) == len(row.outcomes):
                assert sum(outcome.devices for outcome in always) == found.devices, row


def test_each_target_says_its_own_and_what_differs_comes_first():
    allow = rules("category", {"category": "games", "action": "allow"}, {"category": "news", "action": "block"})
    block = rules("category", {"category": "games", "action": "block"}, {"category": "news", "action": "block"})
    estate = assigned((allow, "strong"), (block, "weak"))
    fleet = Fleet.of({"portero_facts": 1, "devices": [{"hostname": "pc"}, {"hostname": "other"}]})
    found = compared(estate, fleet, "strong", "weak")
    assert (found.devices, found.examples) == (1, ("pc",))
    games, news = found.rows
    assert (games.words, games.differ, news.differ) == ("Games", True, False)
    assert [(contribution.target, contribution.action) for contribution in games.contributions] == [
        ("strong", "allow"),
        ("weak", "block"),
    ]
    assert [(outcome.verdict, outcome.by, outcome.devices) for outcome in games.outcomes] == [
        ("allow", "category-0 on strong", 1)
    ]


def test_an_exception_for_one_machine_is_a_target_of_its_own():
    block = rules("category", {"category": "games", "action": "block"})
    allow = rules("category", {"category": "games", "action": "allow"})
    estate = assigned((block, "weak"), (allow, "device:pc"))
    fleet = Fleet.of({"portero_facts": 1, "devices": [{"hostname": "pc"}, {"hostname": "other"}]})
    (row,) = compared(estate, fleet, "pc", "weak").rows
    assert [(contribution.target, contribution.action) for contribution in row.contributions] == [
        ("pc", "allow"),
        ("weak", "block"),
    ]
    assert row.outcomes[0].verdict == "allow"


def test_hosts_of_a_list_that_fare_alike_are_one_row():
    hosts = [{"host": f"h{number}.example", "action": "block"} for number in range(3000)]
    estate = assigned((rules("indicator", *hosts, {"host": "own.example", "action": "warn"}), "weak"))
    fleet = Fleet.of({"portero_facts": 1, "devices": [{"hostname": "pc"}]})
    blocked, warned = sorted(compared(estate, fleet, "weak").rows, key=lambda row: -row.alike)
    assert (blocked.words, blocked.alike, len(blocked.alike_examples)) == ("h0.example", 2999, 12)
    assert (warned.words, warned.alike, warned.outcomes[0].verdict) == ("own.example", 0, "warn")


def test_what_is_typed_is_told_even_where_nobody_names_it():
    estate = assigned((rules("category", {"category": "games", "action": "block"}), "weak"))
    fleet = Fleet.of({"portero_facts": 1, "devices": [{"hostname": "pc"}]})
    typed = list(typed_subjects("https://nowhere.example/a", None, []))
    (row,) = compared(estate, fleet, "weak", typed=typed).rows
    assert (row.contributions, row.outcomes[0].verdict, row.outcomes[0].by) == ((), "allow", None)


@pytest.mark.parametrize(
    ("text", "kinds"),
    [
        ("Games", {"category games"}),
        (" games ", {"category games"}),
        ("play.example", {"host play.example"}),
        ("https://play.example/", {"host play.example"}),
        ("play.example/a?b=1", {"url http://play.example/a?b=1"}),
        ("203.0.113.7", {"host 203.0.113.7"}),
        ("deckhand viewer", {"program Deckhand Viewer 4.1", "program Deckhand Viewer 4.2"}),
        ("chart", {"program chart"}),
    ],
)
def test_what_somebody_types_in_is_found(text, kinds):
    assert {f"{subject.kind} {subject.name}" for subject in typed_subjects(text, None, PROGRAMS)} == kinds


def test_a_family_stands_for_its_categories():
    family = TAXONOMY.families[0]
    wanted = {category.key for category in family.categories}
    for text in (family.key, family.name.upper()):
        assert {subject.name for subject in typed_subjects(text, None, [])} >= wanted


def test_a_program_nobody_has_is_looked_at_all_the_same():
    (one,) = typed_subjects(None, "Solitaire", PROGRAMS)
    assert (one.is_start, one.name, one.program != OTHER_PROGRAM) == (True, "Solitaire", True)
    assert [each.name for each in typed_subjects(None, "CHART", PROGRAMS)] == ["chart"]
    assert list(typed_subjects(None, None, PROGRAMS)) == []


@pytest.mark.parametrize("text", ["http://", "ftp://files.example/", "two words", "http://a example/"])
def test_what_is_no_address_is_refused(text):
    with pytest.raises(BadUrl):
        list(typed_subjects(text, None, []))


@pytest.mark.parametrize("seed", range(10))
def test_machines_that_every_two_groups_share_are_counted(seed):
    _, estate, fleet = made(seed)
    groups = fleet.groups(estate)
    found = {pair.groups: pair.devices for pair in shared_devices(Counter(groups.values()), estate.group_order)}
    for pair in combinations(estate.group_order, 2):
        assert found.get(pair, 0) == sum(set(pair) <= set(own) for own in groups.values()), pair
    assert list(found.values()) == sorted(found.values(), reverse=True)

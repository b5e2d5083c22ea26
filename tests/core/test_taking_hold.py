"""Where a change will not hold, and when it will have taken hold."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st
from worlds import Fleet

from portero.core.insight.readiness import Obstacle
from portero.core.insight.taking_hold import FEW, hidden_content, hindrances, host_only, taking_hold
from portero.core.matching.members import Member
from portero.core.nouns.action import Action
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import Layer
from portero.core.nouns.preview import VerdictChange, effect_of
from portero.core.nouns.readiness import BlockerCode

COVERAGE = Estate().coverage_table
CHROMIUM = {"name": "chromium", "version": "140", "managed": True}


def members(number: int, **facts) -> list[Member]:
    devices = [{"hostname": f"pc-{place:02}", **facts} for place in range(number)]
    return Fleet.of({"portero_facts": 1, "devices": devices}).members


def hindered(layer: Layer, some: Sequence[Member], *codes: Obstacle, hidden: Sequence[str] = ()):
    tightened = {layer: {member.id: member for member in some}}
    return hindrances(tightened, hidden, lambda _member: codes, COVERAGE)


def test_each_blocker_of_the_layer_is_told_with_its_machines():
    some = members(3)
    (one,) = hindered(Layer.FILTER, some, Obstacle(BlockerCode.LAYER_OFF, "filter"))
    assert (one.code, one.layer, one.devices) == ("layer-off", "filter", 3)
    assert one.examples == ("pc-00", "pc-01", "pc-02")
    assert one.detail
    assert one.remedy


@pytest.mark.parametrize(
    "obstacle",
    [
        Obstacle(BlockerCode.LAYER_OFF, "startup"),
        Obstacle(BlockerCode.ZONE_MISSING),
        Obstacle(BlockerCode.FACTS_STALE, "filter"),
        Obstacle(BlockerCode.DUPLICATE_HOSTNAME, "filter"),
    ],
)
def test_what_is_of_another_layer_or_in_nobodys_way_is_left_out(obstacle):
    assert hindered(Layer.FILTER, members(2), obstacle) == ()


@pytest.mark.parametrize(("lifecycle", "code"), [("silent", "silent"), ("invited", "never-joined")])
def test_a_machine_that_is_not_there_is_told_as_that_alone(lifecycle, code):
    some = [Member(member.id, member.facts, lifecycle=lifecycle) for member in members(2)]
    tightened = {layer: {one.id: one for one in some} for layer in (Layer.FILTER, Layer.STARTUP)}
    off = [Obstacle(BlockerCode.LAYER_OFF, layer) for layer in ("filter", "startup")]
    (one,) = hindrances(tightened, (), lambda _member: off, COVERAGE)
    assert (one.code, one.layer, one.devices) == (code, None, 2)


def test_the_most_machines_come_first_and_a_few_are_named():
    many, few = members(30, browsers=[CHROMIUM]), members(4)
    for number, one in enumerate(few):
        one.id = f"other-{number}"
    codes = {one.id: (Obstacle(BlockerCode.LAYER_OBSERVING, "filter"),) for one in many}
    codes |= {one.id: (Obstacle(BlockerCode.LAYER_OFF, "filter"),) for one in few}
    tightened = {Layer.FILTER: {one.id: one for one in (*few, *many)}}
    found = hindrances(tightened, (), lambda member: codes[member.id], COVERAGE)
    assert [(hindrance.code, hindrance.devices) for hindrance in found] == [("layer-observing", 30), ("layer-off", 4)]
    assert len(found[0].examples) == FEW


def test_hidden_content_counts_where_a_browser_shows_only_the_host():
    browsing, plain = members(2, browsers=[CHROMIUM]), members(1)
    plain[0].id = "plain"
    (one,) = hindered(Layer.FILTER, [*browsing, *plain], hidden=["path-hidden"])
    assert (one.code, one.devices) == ("path-hidden", 2)
    assert hindered(Layer.FILTER, plain, hidden=["path-hidden"]) == ()
    assert hindered(Layer.STARTUP, browsing, hidden=["path-hidden"]) == ()
    assert [host_only(COVERAGE)(one) for one in (*browsing, *plain)] == [True, True, False]


def changed(subject: str, before: Action = Action.ALLOW, after: Action = Action.BLOCK) -> VerdictChange:
    return VerdictChange(
        subject=subject,
        words=subject,
        before=before,
        after=after,
        effect=effect_of(before, after),
        devices=1,
        device="pc",
        at=datetime(2026, 12, 2, tzinfo=UTC),
        place="off-site",
    )


@pytest.mark.parametrize(
    ("subject", "codes"),
    [
        ("url files.example/drop", ["path-hidden"]),
        ("url files.example/?q=1", ["path-hidden"]),
        ("url [2001:db8::7]/drop", ["path-hidden"]),
        ("url files.example/", []),
        ("url files.example:8080/", []),
        ("host files.example", []),
        ("pattern files.example/drop", []),
        ("search_term free credits", ["content-hidden"]),
        ("media_type video/mp4", ["content-hidden"]),
        ("category games", []),
    ],
)
def test_what_hangs_on_hidden_content_is_known_by_what_it_names(subject, codes):
    assert list(hidden_content([changed(subject)])) == codes
    assert list(hidden_content([changed(subject, after=Action.WARN)])) == codes
    # what is released holds everywhere
    assert list(hidden_content([changed(subject, Action.BLOCK, Action.ALLOW)])) == []


RHYTHM = st.none() | st.tuples(st.floats(0, 1000), st.none() | st.floats(1, 100_000))


@given(st.lists(RHYTHM, max_size=40))
def test_half_most_and_all_have_fetched_it_by_then(rhythms):
    now = 1000.0
    told = taking_hold(rhythms, now)
    waits = [
        max(0.0, rhythm[0] + rhythm[1] - now) for rhythm in rhythms if rhythm is not None and rhythm[1] is not None
    ]
    assert (told.devices, told.unheard) == (len(rhythms), len(rhythms) - len(waits))
    for seconds, part in ((told.half, 0.5), (told.most, 0.9), (told.all, 1.0)):
        if not waits:
            assert seconds is None
            continue
        # so many have it by then, and not a moment earlier
        assert sum(wait <= seconds for wait in waits) >= part * len(waits)
        assert sum(wait < seconds for wait in waits) < part * len(waits)
    assert str(told.unheard) in told.sentence or not told.unheard


@pytest.mark.parametrize(
    ("interval", "words"),
    [
        (60.0, "within a minute or so"),
        (600.0, "within about 10 minutes"),
        (5400.0, "within about 2 hours"),
        (7 * 86_400.0, "within about 7 days"),
    ],
)
def test_how_long_it_takes_is_told_as_people_say_it(interval, words):
    assert words in taking_hold([(1000.0, interval)], 1000.0).sentence


def test_with_nothing_to_fetch_it_says_so():
    assert taking_hold([], 0.0).sentence == "No machine has anything to fetch."
    assert taking_hold([None], 0.0).sentence == "1 machine fetches it; 1 is not heard of and takes it on coming back."

"""The meter of indicators: who carries most, how that grows from day to day, and when it is full."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from conftest import group
from portero.core import sentences
from portero.core.nouns.assignment import Assignment, State
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.estate import Estate
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.settings import Settings
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from service.standins import keepers_at

NOON = datetime(2026, 11, 25, 12, tzinfo=UTC).timestamp()
DAY = 86_400.0


@pytest.fixture
def keepers(tmp_path):
    with keepers_at(tmp_path, NOON) as (made, _clock):
        yield made


def listed(key: str, number: int, **more: object) -> Ruleset:
    rules = [{"host": f"{key}-{n}.example", "action": "block", **more} for n in range(number)]
    return Ruleset.model_validate({"key": key, "kind": "indicator", "rules": rules})


def put(keepers: Keepers, *rulesets: tuple[Ruleset, str], capacity: int = 1_000, **parts: object) -> None:
    def edit(snapshot) -> Estate:
        return snapshot.estate.replacing(
            rulesets=tuple(ruleset for ruleset, _ in rulesets),
            assignments=tuple(Assignment(key=one.key, ruleset=one.key, to=(to,)) for one, to in rulesets),
            settings=Settings(indicator_capacity=capacity),
            **parts,
        )

    keepers.estate.change(edit, by="tests")


def enrol(keepers: Keepers, *hostnames: str) -> None:
    code = keepers.enrolment.make_code(NewEnrolmentCode(uses=len(hostnames)), "tests").code
    for hostname in hostnames:
        keepers.enrolment.join(code, Facts(hostname=hostname))


def test_those_that_carry_most_are_named_and_others_are_not(keepers):
    quays = group("quays", any=[{"field": "hostname", "op": "starts_with", "value": "quay-"}])
    put(
        keepers, (listed("all", 3), "whole-fleet"), (listed("quay", 4), "quays"), groups=(quays,), precedence=("quays",)
    )
    enrol(keepers, "quay-1", "quay-2", "ship-1")
    use = keepers.indicators.capacity()
    assert (use.most, use.devices, use.groups) == (7, 2, ("quays", "whole-fleet"))
    assert use.sentence == ("Up to 7 of 1,000 indicators on a machine (1%); how fast it fills is known after a day.")


def test_a_ruleset_that_is_paused_or_put_on_nobody_is_not_carried(keepers):
    put(keepers, (listed("all", 3), "whole-fleet"))
    enrol(keepers, "ship-1")
    keepers.estate.change(
        lambda snapshot: snapshot.estate.replacing(
            rulesets=(*snapshot.estate.rulesets, listed("spare", 50)),
            assignments=tuple(
                assignment.model_copy(update={"state": State.PAUSED}) for assignment in snapshot.estate.assignments
            ),
        ),
        by="tests",
    )
    assert keepers.indicators.capacity().most == 0


def test_the_forecast_goes_by_the_days_that_were_counted(keepers):
    enrol(keepers, "ship-1")
    for number in (100, 150, 200):
        put(keepers, (listed("all", number), "whole-fleet"))
        keepers.indicators.count()
        keepers.now.at += 2 * DAY
    use = keepers.indicators.capacity()
    assert (use.most, use.a_day) == (200, pytest.approx(100 / 6))
    assert use.full_in_days == pytest.approx(800 * 6 / 100)
    assert use.sentence == (
        "Up to 200 of 1,000 indicators on a machine (20%), 17 more each day: full in 48 days at that rate."
    )


def test_counts_of_more_than_a_month_ago_are_forgotten_in_the_forecast(keepers):
    enrol(keepers, "ship-1")
    put(keepers, (listed("all", 900), "whole-fleet"))
    keepers.indicators.count()
    keepers.now.at += 40 * DAY
    put(keepers, (listed("all", 10), "whole-fleet"))
    keepers.indicators.count()
    keepers.now.at += 5 * DAY
    assert keepers.indicators.capacity().a_day == 0


def test_what_ends_within_a_month_is_counted(keepers):
    enrol(keepers, "ship-1")
    put(
        keepers,
        (listed("soon", 2, valid_until="2026-12-10T00:00:00Z"), "whole-fleet"),
        (listed("later", 3, valid_until="2027-06-01T00:00:00Z"), "whole-fleet"),
        (listed("over", 4, valid_until="2026-11-01T00:00:00Z"), "whole-fleet"),
        (listed("ever", 5), "whole-fleet"),
    )
    assert keepers.indicators.capacity().ending == 2


def test_what_is_too_much_is_refused_by_every_way_and_less_is_always_taken(keepers):
    enrol(keepers, "ship-1")
    put(keepers, (listed("all", 8), "whole-fleet"), capacity=10)
    with pytest.raises(Refusal, match="would have 11 indicators to carry"):
        put(keepers, (listed("all", 11), "whole-fleet"), capacity=10)
    with pytest.raises(Refusal, match="would have 16 indicators to carry"):
        put(keepers, (listed("all", 8), "whole-fleet"), (listed("more", 8), "whole-fleet"), capacity=10)
    put(keepers, (listed("all", 8), "whole-fleet"), capacity=5)
    assert keepers.indicators.capacity().sentence.endswith("on a machine (160%): it is full.")
    put(keepers, (listed("all", 7), "whole-fleet"), capacity=5)
    with pytest.raises(Refusal, match="would have 8 indicators"):
        put(keepers, (listed("all", 8), "whole-fleet"), capacity=5)


@pytest.mark.parametrize(
    ("a_day", "full_in", "told"),
    [
        (None, None, "; how fast it fills is known after a day."),
        (0.0, None, ", and no more from day to day."),
        (-3.4, None, ", 3 fewer each day."),
        (0.25, 400.0, ", less than one more each day: full in 400 days at that rate."),
        (2.0, 1.2, ", 2 more each day: full in 1 day at that rate."),
        (0.01, 90_000.0, ", less than one more each day: full in more than ten years at that rate."),
        (1_234.4, 2.0, ", 1,234 more each day: full in 2 days at that rate."),
    ],
)
def test_the_sentence_of_the_meter(a_day, full_in, told):
    assert sentences.capacity(100, 1_000, a_day, full_in) == f"Up to 100 of 1,000 indicators on a machine (10%){told}"

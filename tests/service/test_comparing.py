"""What another generation of a feed changes, against trying every host on every machine before and after."""

from __future__ import annotations

import random
from collections import Counter
from datetime import UTC, datetime
from pathlib import Path

import pytest

from conftest import group, ruleset
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.correction import Correction
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.feed import Feed
from portero.core.nouns.feed_comparison import FeedComparison
from portero.core.nouns.layer import Layers
from portero.core.nouns.ruleset import Ruleset
from portero.service.keepers import Keepers
from portero.store.database import StoreProblem
from service.standins import configure, keepers_at

NOON = datetime(2026, 11, 25, 12, tzinfo=UTC).timestamp()
CATEGORIES = ("games", "music", "sport", "gambling", "news")
HOSTS = tuple(f"h{number}.example" for number in range(6))
DEVICES = ("alpha-1", "alpha-2", "beta-1")
ENFORCING = Layers(filter="enforcing", browser="enforcing", startup="enforcing")


@pytest.fixture
def keepers(tmp_path):
    with keepers_at(tmp_path / "data", NOON) as (made, _clock):
        yield made


def bring(keepers: Keepers, feed: str, lines: str, folder: Path, review: bool = False) -> None:
    """Put a file into a feed, and wait for what comes of it."""
    file = folder / "sent"
    file.write_text(lines)
    found = next(one for one in keepers.estate.snapshot.estate.feeds if one.key == feed)
    reading = keepers.feeds.read_file(found, "tests", file, "sent", review)
    assert reading is not None
    reading.result(60)


def compared(keepers: Keepers, feed: str, number: int) -> FeedComparison:
    return keepers.comparisons.compare(
        next(one for one in keepers.estate.snapshot.estate.feeds if one.key == feed), number
    )


def words(keepers: Keepers) -> dict[tuple[str, str], str]:
    """What the estate means to become of each host on each machine; log where it is let through and recorded."""
    found = {}
    for device in DEVICES:
        for host in HOSTS:
            intended = keepers.checks.explain(Attempt(device=device, url=f"http://{host}/")).intended
            logged = any(layer.logged for layer in intended.layers)
            found[device, host] = "log" if intended.verdict == "allow" and logged else intended.verdict.value
    return found


def differing(before: dict[tuple[str, str], str], after: dict[tuple[str, str], str]) -> Counter[tuple[str, str, str]]:
    """On how many machines each host has become something else."""
    return Counter(
        (host, before[device, host], word) for (device, host), word in after.items() if before[device, host] != word
    )


def told(comparison: FeedComparison) -> Counter[tuple[str, str, str]]:
    """On how many machines each host becomes something else, those told together set apart."""
    found: Counter[tuple[str, str, str]] = Counter()
    for verdict in comparison.verdicts:
        assert verdict.when is None, "no rule looks at people, places or the clock"
        assert verdict.alike == len(verdict.alike_examples)
        for host in (verdict.subject.removeprefix("host "), *verdict.alike_examples):
            found[host, verdict.before.value, verdict.after.value] += verdict.devices
    return found


def join_all(keepers: Keepers) -> None:
    """Let the machines join."""
    code = keepers.enrolment.make_code(NewEnrolmentCode(uses=len(DEVICES)), "tests").code
    for device in DEVICES:
        keepers.enrolment.join(code, Facts(hostname=device, layers=ENFORCING))


def estate_parts(chance: random.Random) -> dict[str, object]:
    """Rules of categories and of hosts on two groups and everybody, and corrections."""
    actions = ("allow", "warn", "block", "log")
    rulesets = [
        ruleset(key, **{one: chance.choice(actions) for one in chance.sample(CATEGORIES, 3)}) for key in ("one", "two")
    ]
    hosts = [{"host": host, "action": chance.choice(actions)} for host in chance.sample(HOSTS, 2)]
    rulesets.append(Ruleset.model_validate({"key": "named", "kind": "indicator", "rules": hosts}))
    targets = ("alpha", "beta", "whole-fleet")
    assignments = [
        Assignment(key=key, ruleset=key, to=(chance.choice(targets),), mandatory=chance.random() < 0.3)
        for key in ("one", "two", "named")
    ]
    corrections = [Correction(host=host, categories=(chance.choice(CATEGORIES),)) for host in chance.sample(HOSTS, 1)]
    groups = [
        group(key, any=[{"field": "hostname", "op": "starts_with", "value": f"{key}-"}]) for key in ("alpha", "beta")
    ]
    return {
        "groups": tuple(groups),
        "precedence": ("alpha", "beta"),
        "rulesets": tuple(rulesets),
        "assignments": tuple(assignments),
        "corrections": tuple(corrections),
    }


def lines(chance: random.Random) -> str:
    return "".join(
        f"{host},{' '.join(chance.sample(CATEGORIES, chance.choice((1, 1, 2))))}\n"
        for host in HOSTS
        if chance.random() < 0.8
    )


@pytest.mark.parametrize("seed", range(12))
def test_verdicts_that_a_generation_changes_are_those_that_become_others(keepers, tmp_path, seed):
    chance = random.Random(seed)
    parts = estate_parts(chance)
    configure(keepers, Feed(key="list", kind="categories", format="csv"), **parts)
    join_all(keepers)
    bring(keepers, "list", lines(chance), tmp_path)
    before = words(keepers)
    bring(keepers, "list", lines(chance), tmp_path, review=True)
    waiting = compared(keepers, "list", 2)
    assert words(keepers) == before, "while it waits nothing is changed"
    keepers.feeds.take(keepers.estate.snapshot.estate.feeds[0])
    changed = differing(before, words(keepers))
    assert told(waiting) == changed
    assert waiting.complete
    assert told(compared(keepers, "list", 2)) == changed, "the same once it counts"


def indicators(chance: random.Random) -> str:
    named = chance.sample(HOSTS, chance.randint(1, 5))
    rows = (f"host,{host},{chance.choice(('block', 'warn', 'log'))}\n" for host in named)
    return "selector,value,action\n" + "".join(rows)


@pytest.mark.parametrize("seed", range(12))
def test_so_are_those_that_a_generation_of_indicators_changes(keepers, tmp_path, seed):
    chance = random.Random(seed)
    parts = estate_parts(chance)
    watch = Ruleset(key="watch", kind="indicator", feed="watch")
    put = Assignment(key="watch", ruleset="watch", to=(chance.choice(("alpha", "beta", "whole-fleet")),))
    parts |= {"rulesets": (*parts["rulesets"], watch), "assignments": (*parts["assignments"], put)}
    configure(keepers, Feed(key="watch", kind="indicators", format="csv", action="block"), **parts)
    join_all(keepers)
    bring(keepers, "watch", indicators(chance), tmp_path)
    before = words(keepers)
    bring(keepers, "watch", indicators(chance), tmp_path, review=True)
    waiting = compared(keepers, "watch", 2)
    keepers.feeds.take(keepers.estate.snapshot.estate.feeds[0])
    changed = differing(before, words(keepers))
    assert told(waiting) == changed
    assert told(compared(keepers, "watch", 2)) == changed


def test_a_comparison_tells_what_is_said_of_how_many_hosts(keepers, tmp_path):
    configure(keepers, Feed(key="list", kind="categories", format="csv"))
    bring(keepers, "list", "".join(f"h{n}.example,games\n" for n in range(8)), tmp_path)
    changed = "".join(f"h{n}.example,{'music' if n < 5 else 'games'}\n" for n in range(7)) + "new.example,sport\n"
    bring(keepers, "list", changed, tmp_path)
    found = compared(keepers, "list", 2)
    assert (found.against, found.added, found.changed, found.removed) == (1, 1, 5, 1)
    said = {
        (transition.before, transition.after): (transition.hosts, transition.examples)
        for transition in found.transitions
    }
    assert said == {
        (("games",), ("music",)): (5, tuple(f"h{n}.example" for n in range(5))),
        ((), ("sport",)): (1, ("new.example",)),
        (("games",), ()): (1, ("h7.example",)),
    }
    first = compared(keepers, "list", 1)
    assert (first.against, first.added, first.removed) == (None, 8, 0)


def test_of_a_generation_whose_contents_are_gone_no_comparison_is_made(keepers, tmp_path):
    configure(keepers, Feed(key="list", kind="categories", format="csv"))
    for number in range(9):
        bring(keepers, "list", f"h{number}.example,games\nstays.example,news\n", tmp_path)
    with pytest.raises(Exception, match="only the figures are kept"):
        compared(keepers, "list", 1)
    with pytest.raises(Exception, match="no generation 99"):
        compared(keepers, "list", 99)
    assert compared(keepers, "list", 9).added == 1


def test_a_file_that_cannot_be_kept_leaves_what_was_in_force(keepers, tmp_path, monkeypatch):
    configure(keepers, Feed(key="list", kind="categories", format="csv"))
    bring(keepers, "list", "a.example,games\n", tmp_path)
    digest = keepers.holdings.index_in_force.digest

    def full(*_anything: object) -> None:
        raise StoreProblem("the disk is full")

    with monkeypatch.context() as patched:
        patched.setattr(keepers.holdings.artefacts, "make", full)
        bring(keepers, "list", "b.example,games\n", tmp_path)
    assert keepers.holdings.index_in_force.digest == digest
    bring(keepers, "list", "b.example,games\n", tmp_path)
    assert keepers.holdings.index_in_force.digest != digest


def test_the_first_generation_is_compared_with_the_index_that_ships(keepers, tmp_path):
    block = ruleset("no-gambling", gambling="block")
    put = Assignment(key="all", ruleset="no-gambling", to=("whole-fleet",))
    configure(keepers, Feed(key="list", kind="categories", format="csv"), rulesets=(block,), assignments=(put,))
    code = keepers.enrolment.make_code(NewEnrolmentCode(), "tests").code
    keepers.enrolment.join(code, Facts(hostname="alpha-1", layers=ENFORCING))
    bring(keepers, "list", "lucky-reef.example,games\nother.example,gambling\n", tmp_path, review=True)
    assert told(compared(keepers, "list", 1)) == {
        ("lucky-reef.example", "block", "allow"): 1,
        ("other.example", "allow", "block"): 1,
    }

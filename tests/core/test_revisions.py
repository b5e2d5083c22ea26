"""Undoing changes, and telling them in words."""

from __future__ import annotations

import random
from itertools import pairwise

import pytest

from made_estates import Maker
from portero.core.insight.differences import differences
from portero.core.insight.merging import keeping_others
from portero.core.insight.revisions import Step, step_back, undone
from portero.core.nouns.estate import NOUNS, Estate
from portero.core.nouns.revision import Change
from portero.core.sentences import change_details
from portero.formats.document_differences import told_change
from portero.formats.estate_document import write_estate
from thorough import times


def step(before: Estate, after: Estate) -> Step:
    """What it takes to go back, as the store keeps it."""
    return step_back(before, after, differences(before, after))


def named_otherwise(rng: random.Random) -> dict[str, object]:
    """What generated estates lack, of nouns that are not named by a key."""
    row = {"control": "filter", "http": "page", "https": "host", "date": "2026-01-01"}
    browsers = rng.sample(["seafarer", "any", "brook"], rng.randint(0, 3))
    return {
        "coverage": [
            {**row, "browser": browser, "platform": "any", "source": f"bench {rng.random()}"} for browser in browsers
        ],
        "corrections": [
            {"host": f"{one}.example", "categories": ["music"], "reason": "as reported"}
            for one in rng.sample("abcd", 2)
        ],
    }


def with_one_list_edited(rng: random.Random, estate: Estate, other: Estate) -> Estate:
    """The estate with one list in which one is gone, one new or two have changed places; the others are the same."""
    noun = rng.choice([noun for noun in NOUNS.values() if noun.of(estate)])
    objects, known = list(noun.of(estate)), noun.by_key(estate)
    place = rng.randrange(len(objects))
    new = [one for one in noun.of(other) if noun.key_of(one) not in known]
    edit = rng.choice(["gone", "new", "swapped"])
    if edit == "gone":
        del objects[place]
    elif edit == "new" and new:
        objects.insert(place, rng.choice(new))
    else:
        at = rng.randrange(len(objects))
        objects[place], objects[at] = objects[at], objects[place]
    return estate.replacing(**{noun.list: tuple(objects)})


@pytest.mark.parametrize("seed", range(times(40, 100)))
def test_undoing_every_change_gives_the_estate_as_it_was(seed):
    states = [Estate.model_validate(Maker(seed).estate())]
    rng = random.Random(seed)
    for number in range(4):
        other = Estate.model_validate(Maker(100 * seed + number).estate() | named_otherwise(rng))
        chance = rng.random()
        if chance < 0.3:
            states.append(keeping_others(states[-1], other))
        elif chance < 0.7:
            states.append(with_one_list_edited(rng, states[-1], other))
        else:
            shuffled = list(other.rulesets)
            rng.shuffle(shuffled)
            states.append(other.replacing(rulesets=tuple(shuffled)))
    steps = [step(one, next) for one, next in pairwise(states)]
    for back in range(1, len(states)):
        found = undone(states[-1], reversed(steps[-back:]))
        assert write_estate(found) == write_estate(states[-1 - back]), back


def change(noun: str, before: dict | None, after: dict | None) -> Change:
    verb = "created" if before is None else "removed" if after is None else "changed"
    return Change.model_validate({"noun": noun, "key": "k", "verb": verb, "before": before, "after": after})


def test_each_rule_that_is_another_is_told():
    rules = {"key": "k", "kind": "category", "rules": [{"category": "games", "action": "block"}]}
    after = {"key": "k", "kind": "category", "rules": [{"category": "games", "action": "warn", "note": "softer"}]}
    assert change_details(change("ruleset", rules, after)) == ("warns on Games, and blocked before",)
    noted = {**rules, "rules": [{"category": "games", "action": "block", "note": "why"}]}
    assert change_details(change("ruleset", rules, noted)) == ("other words or another end for Games",)
    assert change_details(change("ruleset", rules, {**rules, "rules": []})) == ("no longer blocks Games",)


def test_each_field_that_is_another_is_told_and_defaults_go_without_saying():
    old = {"key": "k", "to": ["ships", {"device": "pc-1"}], "mandatory": False, "place": "anywhere"}
    new = {"key": "k", "to": ["ships", "desks"], "mandatory": True, "place": "off-site", "reason": "Season"}
    assert change_details(change("assignment", old, new)) == (
        "to: also desks",
        "to: no longer pc-1",
        "mandatory: yes, and no before",
        "place: off-site, and anywhere before",
        "reason: Season",
    )
    assert change_details(change("assignment", None, old)) == ("to: ships and pc-1",)
    turned = {"precedence": ["b", "a"]}
    assert change_details(change("precedence", {"precedence": ["a", "b"]}, turned)) == (
        "precedence: b stands above a, moved up",
    )


def test_a_long_change_is_cut_and_its_document_too():
    many = [{"host": f"h{number}.example", "action": "block"} for number in range(6000)]
    told = told_change(change("ruleset", None, {"key": "k", "kind": "indicator", "rules": many}))
    assert len(told.details) == 60
    assert told.details[-1] == "and 5,942 more"
    assert told.difference.endswith("…")
    assert len(told.difference.splitlines()) == 4001

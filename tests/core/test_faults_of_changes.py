"""What does not fit after a change is found beside the sound estate before it, as it is found in the whole."""

from __future__ import annotations

import random

import pytest

from made_estates import Maker
from portero.core.nouns.estate import NOUNS, Estate
from thorough import times


def altered(rng: random.Random, estate: Estate, other: Estate) -> Estate:
    """The estate with some of its lists otherwise: shorter, doubled, or as another one has them."""
    parts = {}
    for noun in rng.sample(list(NOUNS.values()), rng.randint(1, 2)):
        objects = list(noun.of(estate))
        place = rng.randrange(len(objects)) if objects else 0
        edits = [objects[:place] + objects[place + 1 :], [*objects, *objects[place : place + 1]], noun.of(other)]
        parts[noun.list] = tuple(rng.choice(edits))
    if rng.random() < 0.3:
        parts["precedence"] = other.precedence
    return estate.replacing(**parts)


@pytest.mark.parametrize("seed", range(times(60, 400)))
def test_a_change_has_the_faults_that_its_whole_estate_has(seed):
    rng, sound = random.Random(seed), Estate.model_validate(Maker(seed).estate())
    assert not list(sound.faults())
    for number in range(6):
        after = altered(rng, sound, Estate.model_validate(Maker(1000 * seed + number).estate()))
        assert list(after.faults(sound)) == list(after.faults())
    assert not list(sound.faults(sound))


def test_the_changes_do_have_faults():
    faults = 0
    for seed in range(20):
        rng, sound = random.Random(seed), Estate.model_validate(Maker(seed).estate())
        faults += bool(list(altered(rng, sound, Estate.model_validate(Maker(seed + 1).estate())).faults(sound)))
    assert faults > 5

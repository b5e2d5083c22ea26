"""Application sets that take in others, and conditions on the signer's certificate."""

from __future__ import annotations

import pytest
from judging import assigned, judge, rules
from pydantic import ValidationError

from portero.core.insight.differences import differences
from portero.core.insight.effects.touching import touched_groups
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.estate import Estate
from portero.core.resolving.compiling import compile_bundle

ONE, OTHER = "ab" * 32, "cd" * 32
SETS = [
    {"key": "office", "include": [{"product": "Chart Table"}], "sets": ["mail"], "exclude": [{"certificate": ONE}]},
    {"key": "mail", "include": [{"vendor": "Gnomon Works"}], "exclude": [{"product": "Gnomon Reader"}]},
]


def blocked(sets=SETS, named: str = "office", **start: str) -> bool:
    blocking = rules("startup", {"application_set": named, "action": "block"})
    estate = assigned((blocking, "strong"), application_sets=sets)
    return judge(estate, start=start, url=None).verdict == "block"


@pytest.mark.parametrize(
    ("start", "held"),
    [
        ({"product": "Chart Table"}, True),
        ({"product": "Gnomon Mail", "vendor": "Gnomon Works"}, True),
        ({"product": "Gnomon Reader", "vendor": "Gnomon Works"}, False),
        ({"product": "Gnomon Mail", "vendor": "Gnomon Works", "certificate": ONE}, False),
        ({"product": "Gnomon Mail", "vendor": "Gnomon Works", "certificate": OTHER}, True),
        ({"product": "Another", "certificate": ONE}, False),
    ],
)
def test_a_set_holds_what_another_one_holds_less_its_own_exclusions(start, held):
    assert blocked(**start) is held


def test_what_a_set_takes_in_comes_with_the_bundle_and_a_change_of_it_touches_the_same_groups():
    blocking = rules("startup", {"application_set": "office", "action": "block"})
    before = assigned((blocking, "strong"), application_sets=SETS)
    assert sorted(compile_bundle(before, ("strong",)).references.application_sets) == ["mail", "office"]
    mail = ApplicationSet.model_validate({"key": "mail", "include": [{"vendor": "Others"}]})
    after = before.replacing(application_sets=(before.application_sets[0], mail))
    changes = list(differences(before, after))
    assert [change.key for change in changes] == ["mail"]
    assert touched_groups(before, after, changes) == {"strong"}


@pytest.mark.parametrize(
    ("sets", "says"),
    [
        ([{"key": "a", "sets": ["b"]}], "there is no application set “b”"),
        ([{"key": "a", "sets": ["a"]}], "“a” would take itself in, by way of “a”"),
        ([{"key": "a", "sets": ["b"]}, {"key": "b", "sets": ["a"]}], "“a” would take itself in, by way of “b”"),
    ],
)
def test_sets_that_cannot_be_taken_in(sets, says):
    faults = list(Estate.model_validate({"application_sets": sets}).faults())
    assert faults[0].message.startswith(says)


def test_a_certificate_is_64_digits():
    with pytest.raises(ValidationError):
        ApplicationSet.model_validate({"key": "a", "include": [{"certificate": "ab"}]})

"""Freezing an application set: nothing that it holds is let through for want of a SHA-256."""

from __future__ import annotations

import pytest

from portero.core.matching.applications import CannotFreeze, SetTest, Started, members_of
from portero.core.nouns.application_set import ApplicationSet, FrozenProgram
from portero.core.nouns.device import Application
from portero.core.sentences import application_set_sentence

VIEWER = ApplicationSet.model_validate({"key": "viewers", "include": [{"vendor": "Deckhand"}]})
KNOWN = Application(product="Deckhand Viewer", vendor="Deckhand", version="4.2", sha256="a" * 64)
UNHASHED = Application(product="Deckhand Chart", vendor="Deckhand", version="4.1", signer="Deckhand", path="/opt/chart")
BY_PATH = Application(vendor="Deckhand", path="/opt/deckhand/tool", file="tool")


def frozen(*programs: Application) -> ApplicationSet:
    members = members_of(VIEWER, programs, {}, {})
    return VIEWER.model_copy(update={"following": False, "frozen_members": members})


def holds(application_set: ApplicationSet, program: Application) -> bool:
    return SetTest(application_set, {}).fit(Started.of(program, {}, {})).narrowness is not None


def test_each_program_is_kept_by_what_identifies_it_best():
    assert members_of(VIEWER, [KNOWN, UNHASHED, BY_PATH], {}, {}) == (
        "a" * 64,
        FrozenProgram(product="Deckhand Chart", vendor="Deckhand", version="4.1", signer="Deckhand"),
        FrozenProgram(vendor="Deckhand", path="/opt/deckhand/tool"),
    )


@pytest.mark.parametrize("program", [KNOWN, UNHASHED, BY_PATH])
def test_what_was_held_is_held_frozen(program):
    assert holds(VIEWER, program)
    assert holds(frozen(KNOWN, UNHASHED, BY_PATH), program)


@pytest.mark.parametrize(
    "later",
    [
        UNHASHED.model_copy(update={"version": "4.2"}),
        UNHASHED.model_copy(update={"signer": "somebody"}),
        KNOWN.model_copy(update={"sha256": "b" * 64}),
        BY_PATH.model_copy(update={"path": "/opt/deckhand/other"}),
    ],
)
def test_what_came_later_is_not(later):
    assert holds(VIEWER, later)
    assert not holds(frozen(KNOWN, UNHASHED, BY_PATH), later)


def test_names_fold_case_and_what_is_missing_is_told():
    application_set = frozen(KNOWN, UNHASHED)
    shouted = UNHASHED.model_copy(update={"product": "DECKHAND CHART", "path": "/elsewhere"})
    assert holds(application_set, shouted)
    fit = SetTest(application_set, {}).fit(Started.of(Application(product="Deckhand Chart", vendor="Deckhand"), {}, {}))
    assert (fit.narrowness, fit.missing) == (None, {"sha256", "version", "signer"})


def test_what_nothing_identifies_is_refused_and_not_let_through():
    with pytest.raises(CannotFreeze, match="only vendor “Deckhand” and version “1” is known"):
        members_of(VIEWER, [KNOWN, Application(vendor="Deckhand", version="1")], {}, {})


def test_the_sentence_says_what_is_kept():
    told = application_set_sentence(frozen(KNOWN, UNHASHED, BY_PATH))
    assert told == "3 programs with vendor Deckhand; frozen, 1 by SHA-256 and 2 by what else is known of them."
    assert application_set_sentence(frozen()) == "No program with vendor Deckhand; frozen, none."


NAMELESS = [{"version": "4.2"}, {"vendor": "Deckhand"}, {}, {"product": "x", "owner": "y"}, "ab"]


@pytest.mark.parametrize("member", NAMELESS)
def test_a_member_has_to_say_which_program_it_is(member):
    with pytest.raises(ValueError, match=r"frozen program names|owner|pattern"):
        ApplicationSet.model_validate({"key": "viewers", "following": False, "frozen_members": [member]})

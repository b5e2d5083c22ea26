"""Answers that were wrong once: each here failed before it was put right."""

from __future__ import annotations

import pytest

from conftest import Wire, assignment, group, under
from portero.client.errors import Invalid
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.attempt import Attempt, Program
from portero.core.nouns.ruleset import Ruleset

VIEWER = {"product": "Deckhand Viewer", "vendor": "Deckhand", "version": "4.1"}


@pytest.fixture(scope="module")
def office(portero):
    return portero.groups.create(group("office", all=[under("brackwater/office")]))


def test_freezing_a_set_goes_on_stopping_what_it_held(service, portero, office):
    Wire(service, portero, "viewing", applications=[VIEWER])
    wanted = {"key": "viewers", "include": [{"vendor": "Deckhand"}]}
    portero.application_sets.create(ApplicationSet.model_validate(wanted))
    rules = [{"application_set": "viewers", "action": "block"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "no-viewers", "kind": "startup", "rules": rules}))
    portero.assignments.create(assignment("no-viewers", "office"))
    attempt = Attempt(device="viewing", start=Program(**VIEWER))
    assert portero.checks.check(attempt).intended.verdict == "block"
    portero.application_sets.put(ApplicationSet.model_validate(wanted | {"following": False}), version=None)
    assert portero.checks.check(attempt).intended.verdict == "block"
    newer = Attempt(device="viewing", start=Program(**{**VIEWER, "version": "4.2"}))
    assert portero.checks.check(newer).intended.verdict == "allow"


def test_what_cannot_be_kept_is_not_frozen(service, portero, office):
    Wire(service, portero, "nameless", applications=[{"vendor": "Deckhand"}])
    with pytest.raises(Invalid, match="cannot be frozen: of a program that it holds only vendor “Deckhand” is known"):
        portero.application_sets.create(
            ApplicationSet.model_validate({"key": "more", "include": [{"vendor": "Deckhand"}], "following": False})
        )

"""Hold-back: what a set takes in by itself is logged for a while, and then stopped; on servers once it is accepted."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from conftest import Wire, assignment
from portero.client import Invalid, NotFound
from portero.core.nouns.application_set import ApplicationSet, FrozenProgram
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.ruleset import Ruleset

pytestmark = pytest.mark.process
WEEK = timedelta(days=7)


def told(product: str, version: str, **more: str) -> dict[str, str]:
    return {"path": f"/opt/{product.lower()}-{version}", "product": product, "version": version, **more}


def version(product: str, number: str) -> FrozenProgram:
    return FrozenProgram(product=product, version=number)


@pytest.fixture(scope="module")
def machines(service, portero):
    """A desk and a server that have one version of a program, and a set of it, held back where it is assigned."""
    desk = Wire(service, portero, "held-desk")
    server = Wire(service, portero, "held-server", kind="server")
    for wire in (desk, server):
        wire.check_in(programs={"new": [told("Slow Boat", "1.0", category="games")]})
    portero.application_sets.create(ApplicationSet.model_validate({"key": "boats", "include": [{"category": "games"}]}))
    rules = [{"application_set": "boats", "action": "block"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "no-boats", "kind": "startup", "rules": rules}))
    portero.assignments.create(assignment("no-boats", "whole-fleet", hold_back="P7D", key="held"))
    return desk, server


def tried(portero, device: str, number: str, after: timedelta = timedelta(), product: str = "Slow Boat"):
    start = {"product": product, "version": number, "category": "games"}
    at = datetime.now(UTC) + after
    return portero.checks.check(Attempt.model_validate({"device": device, "start": start, "at": at})).intended


def verdict(*asked, **more) -> str:
    intended = tried(*asked, **more)
    is_logged = intended.verdict == "allow" and any(layer.logged for layer in intended.layers)
    return "log" if is_logged else intended.verdict


def test_what_was_there_is_stopped_and_what_comes_is_logged_first(service, portero, machines):
    desk, _ = machines
    seen = portero.assignments.get("held")
    assert (seen.members, seen.came, seen.hold_back) == ((version("Slow Boat", "1.0"),), (), WEEK)
    assert "what comes later only logged for 7 days first" in seen.sentence
    assert verdict(portero, "held-desk", "1.0") == "block"
    assert verdict(portero, "held-desk", "2.0") == "log"
    assert "no machine had told of it yet" in tried(portero, "held-desk", "2.0").model_dump_json()

    desk.check_in(programs={"new": [told("Slow Boat", "2.0", category="games")]})
    service.keepers.let_time_pass()
    (came,) = portero.assignments.get("held").held_back
    assert (came.name, came.program, came.over) == ("Slow Boat 2.0", version("Slow Boat", "2.0"), False)
    assert came.until - came.at == WEEK
    revision = next(portero.revisions.list())
    assert (revision.by, revision.reason) == ("the service", "Slow Boat 2.0 came, and is held back")
    assert "came: also Slow Boat 2.0" in portero.revisions.get(revision.number).model_dump_json()
    bundle, _ = desk.sync()
    (held,) = (one for one in bundle.assignments if one.key == "held")
    assert held.came == (((("product", "slow boat"), ("version", "2.0")), came.at.timestamp()),)

    assert verdict(portero, "held-desk", "2.0") == "log"
    assert verdict(portero, "held-desk", "2.0", WEEK + timedelta(minutes=1)) == "block"
    assert verdict(portero, "held-server", "2.0", 50 * WEEK) == "log"
    waiting = tried(portero, "held-server", "2.0", 50 * WEEK).model_dump_json()
    assert "servers wait until somebody accepts it" in waiting


def test_what_is_accepted_is_stopped_everywhere_and_nothing_else_is(service, portero, machines):
    _, server = machines
    server.check_in(programs={"new": [told("Slow Boat", "3.0", category="games")]})
    service.keepers.let_time_pass()
    with pytest.raises(NotFound, match=r"Slow Boat 9 is not among what came"):
        portero.assignments.accept("held", [version("Slow Boat", "9")])
    preview = portero.preview(lambda asked: asked.assignments.accept("held", [version("Slow Boat", "3.0")]))
    assert "Slow Boat 3.0" in preview.model_dump_json()
    changed = portero.assignments.accept("held", [version("Slow Boat", "3.0")], reason="looked at")
    assert version("Slow Boat", "3.0") in changed.members
    assert "Slow Boat 3.0" not in [one.name for one in changed.held_back]
    for device in ("held-desk", "held-server"):
        assert verdict(portero, device, "3.0") == "block"
    revisions = portero.revisions.list()
    newest = next(revisions).number
    service.keepers.let_time_pass()
    assert next(portero.revisions.list()).number == newest, "nothing came, and nothing is written"


def test_what_an_edit_takes_in_is_meant_and_stopped_at_once(service, portero, machines):
    desk, _ = machines
    desk.check_in(
        programs={"new": [told("Swift Boat", "1", category="media"), told("Slow Boat", "1.0", category="games")]}
    )
    boats = portero.application_sets.get("boats")
    wider = ApplicationSet.model_validate(
        {"key": "boats", "include": [{"category": "games"}, {"product": "Swift Boat"}]}
    )
    portero.application_sets.put(wider, version=boats.version)
    assert version("Swift Boat", "1") in portero.assignments.get("held").members
    assert verdict(portero, "held-desk", "1", product="Swift Boat") == "block"
    desk.check_in(programs={"new": [told("Swift Boat", "2", category="media")]})
    service.keepers.let_time_pass()
    assert verdict(portero, "held-desk", "2", product="Swift Boat") == "log"


def test_while_it_is_paused_nothing_comes_later(service, portero, machines):
    desk, _ = machines
    portero.assignments.set_state("held", "paused")
    desk.check_in(programs={"new": [told("Slow Boat", "4.0", category="games")]})
    service.keepers.let_time_pass()
    assert "Slow Boat 4.0" not in [one.name for one in portero.assignments.get("held").held_back]
    portero.assignments.set_state("held", "active")
    assert verdict(portero, "held-desk", "4.0") == "block"


def test_what_does_not_fit_is_refused(portero, machines):
    seen = portero.assignments.get("held")
    with pytest.raises(ValueError, match="members and came go with hold_back"):
        Assignment.model_validate({"key": "a", "ruleset": "no-boats", "to": ["whole-fleet"], "members": ["a" * 64]})
    with pytest.raises(ValueError, match="an hour at the least"):
        assignment("no-boats", "whole-fleet", hold_back="PT1M")
    portero.rulesets.create(
        Ruleset.model_validate({"key": "sites", "kind": "category", "rules": [{"category": "news", "action": "block"}]})
    )
    with pytest.raises(Invalid, match="held back by rulesets of kind startup"):
        portero.assignments.create(assignment("sites", "whole-fleet", hold_back="P7D"))
    assert portero.assignments.get("held").version == seen.version

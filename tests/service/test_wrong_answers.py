"""Answers that were wrong once: each here failed before it was put right."""

from __future__ import annotations

import pytest
from pydantic import ValidationError

from conftest import Wire, assignment, eventually, group, run_async, run_portero, under
from portero.client.errors import Invalid
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.attempt import Attempt, Program
from portero.core.nouns.group import Group
from portero.core.nouns.ruleset import Ruleset
from portero.endpoint.agent import Agent
from portero.endpoint.folder import Folder
from portero.endpoint.running import Rhythm, new_http

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


def test_how_far_apart_check_ins_are_is_told_by_settings_and_groups(service, portero, office):
    device, other = Wire(service, portero, "paced"), Wire(service, portero, "elsewhere", unit="brackwater/ships")

    def asked(wire: Wire) -> str:
        return wire.check_in().headers["Portero-Check-In-Seconds"]

    assert (asked(device), asked(other)) == ("60", "60")
    portero.settings.change(check_in_seconds=300)
    assert asked(device) == "300"
    seen = portero.groups.get("office")
    rule = Group(key="office", members=seen.members, check_in_seconds=3600)
    portero.groups.put(rule, version=seen.version)
    assert (asked(device), asked(other)) == ("3600", "300")
    assert portero.groups.get("office").check_in_seconds == 3600

    # silent is one that misses three of them, whatever its rhythm was before
    def is_given_time() -> bool:
        told = portero.devices.get("paced")
        return (told.silent_after - told.last_heard).total_seconds() >= 3 * 3600

    # when it was heard of is written with the next second's
    eventually(is_given_time)
    with pytest.raises(ValidationError):
        portero.settings.change(check_in_seconds=14)
    portero.groups.put(Group(key="office", members=seen.members), version=None)


def test_an_endpoint_checks_in_as_it_is_asked(service, portero, join):
    portero.settings.change(check_in_seconds=900)
    folder = join("obedient")

    async def asked() -> tuple[float, ...]:
        async with new_http() as http:
            agent = Agent(Folder(folder), http)
            before = Rhythm(seed=1).next(agent.asked_every)
            await agent.check_in()
            return before, Rhythm(seed=1).next(agent.asked_every), Rhythm(5, seed=1).next(agent.asked_every)

    before, after, told = run_async(asked())
    assert 50 < before < 70
    assert 765 <= after <= 1035
    assert told < 6, "one that was told by hand goes by that"


def test_the_commands_of_check_ins(service, portero, tmp_path):
    environment = {"XDG_CONFIG_HOME": str(tmp_path)}

    def run(*arguments, **more):
        return run_portero(*arguments, env=environment, **more)

    run("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin", input=service.password + "\n")
    run("group", "create", "slow", "--where", "kind is kiosk", "--check-in", "1200")
    assert "every 120 seconds" in run("check-in", "set", "120").stdout
    assert "slow" in run("check-in", "show").stdout
    assert "every 1,200 seconds" in run("group", "show", "slow").stdout
    run("group", "edit", "slow", "--check-in", "0")
    assert portero.groups.get("slow").check_in_seconds is None
    assert "15" in run("check-in", "set", "3", expect=2).stderr

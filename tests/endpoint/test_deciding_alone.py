"""What a machine decides by itself: by person, by the clock, by its own overlay; with the service away."""

from __future__ import annotations

import asyncio
import time
from datetime import UTC, datetime, timedelta

import httpx
import pytest

from conftest import group, run_async, run_endpoint, under
from portero.core.nouns.assignment import NewAssignment
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.directory import Directory
from portero.core.nouns.notice import Notice
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.schedule import Schedule
from portero.endpoint import commands as endpoint_commands
from portero.endpoint import machine
from portero.endpoint.agent import Agent
from portero.endpoint.folder import Folder
from portero.endpoint.notice import notice_page
from portero.endpoint.running import new_http

pytestmark = pytest.mark.process

WEDNESDAY = datetime(2026, 12, 2, 10, tzinfo=UTC)
SCHEDULE = {"key": "mornings", "zone": "UTC", "windows": [{"days": ["wed"], "from": "09:00", "to": "12:00"}]}


@pytest.fixture
def policy(portero):
    """Rules with conditions of every sort, on the whole fleet and on one machine alone."""
    portero.directory.put(
        Directory.model_validate(
            {"user_groups": [{"key": "crew", "user_groups": ["p"]}, {"key": "p", "users": ["p-1"]}]}
        )
    )
    portero.schedules.create(Schedule.model_validate(SCHEDULE))
    portero.notices.create(Notice(key="bridge", title="Not on watch.", contact="the watch desk"))
    rulesets = {
        "crew-only": ({"host": "crew.example"}, {"people": {"user_groups": ["crew"]}}),
        "morning": ({"host": "morning.example"}, {"schedule": "mornings"}),
        "course": ({"host": "course.example"}, {"until_restart": True}),
        "page": ({"url": "http://page.example/a"}, {"notice": "bridge"}),
        "own": ({"host": "own.example"}, {"to": [{"device": "alone-1"}]}),
    }
    for key, (selector, conditions) in rulesets.items():
        rules = [{**selector, "action": "block"}]
        portero.rulesets.create(Ruleset.model_validate({"key": key, "kind": "indicator", "rules": rules}))
        portero.assignments.create(NewAssignment.model_validate({"ruleset": key, "to": "whole-fleet", **conditions}))


def agent_in(folder, at: datetime = WEDNESDAY) -> Agent:
    return Agent(Folder(folder), httpx.AsyncClient(), lambda: at)


async def check_in(folder, *people: str) -> None:
    async with new_http() as http:
        agent = Agent(Folder(folder), http, lambda: WEDNESDAY)
        for person in people:
            agent.meet(person)
        await agent.check_in()


def test_it_decides_by_person_clock_restart_page_and_overlay_with_nobody_to_ask(policy, join):
    folder = join("alone-1")
    run_async(check_in(folder, "P-1", "watch-1"))

    def said(url: str, user: str | None = None, at: datetime = WEDNESDAY, page: bool = True) -> str:
        return agent_in(folder, at).rule(f"http://{url}", user, page=page).verdict.value

    assert [said("crew.example", user) for user in ("p-1", "watch-1", None)] == ["block", "allow", "allow"]
    times = [WEDNESDAY, WEDNESDAY + timedelta(hours=2), WEDNESDAY + timedelta(days=1)]
    assert [said("morning.example", at=at) for at in times] == ["block", "allow", "allow"]
    assert said("course.example") == "block"
    assert [said("page.example/a/b"), said("page.example/c"), said("page.example/a", page=False)] == [
        *("block", "allow", "allow")
    ]
    assert said("own.example") == "block"
    ruling = agent_in(folder).rule("http://page.example/a")
    page = notice_page(ruling, "alone-1")
    assert "Not on watch." in page
    assert "the watch desk" in page
    assert "one that your organisation names" in page


def test_a_restart_ends_what_held_until_then_and_only_that(portero, join):
    folder = join("alone-2")
    rules = [{"host": "again.example", "action": "block"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "again", "kind": "indicator", "rules": rules}))
    new = {"ruleset": "again", "to": "whole-fleet", "until_restart": True}
    portero.assignments.create(NewAssignment.model_validate(new))
    run_async(check_in(folder))
    agent = agent_in(folder, WEDNESDAY + timedelta(hours=2))
    agent._own = agent._own.model_copy(update={"last_start": WEDNESDAY + timedelta(hours=1)})
    assert agent.rule("http://again.example/").verdict == "allow"
    agent._own = agent._own.model_copy(update={"last_start": WEDNESDAY - timedelta(hours=1)})
    assert agent.rule("http://again.example/").verdict == "block"


def test_what_was_put_on_one_machine_goes_again_when_it_is_taken_back(portero, join):
    folders = [join("alone-5"), join("alone-6")]
    rules = [{"host": "lifted.example", "action": "block"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "lifted", "kind": "indicator", "rules": rules}))
    # of the group that is named too neither is a member: the bundle of their class stays as it is
    portero.groups.create(group("elsewhere", all=[under("brackwater/elsewhere")]))

    async def put_and_taken_back() -> None:
        # the same agents throughout: what they tell of themselves they tell once
        async with new_http() as http:
            agents = [Agent(Folder(folder), http, lambda: WEDNESDAY) for folder in folders]
            for _ in range(2):
                new = {"ruleset": "lifted", "to": ["elsewhere", {"device": "alone-5"}]}
                made = await asyncio.to_thread(portero.assignments.create, NewAssignment.model_validate(new))
                assert await ruled(agents) == [("block", None), ("allow", None)]
                await asyncio.to_thread(portero.assignments.remove, made.key)
                assert await ruled(agents) == [("allow", None), ("allow", None)]

    async def ruled(agents: list[Agent]) -> list[tuple[str, str | None]]:
        for agent in agents:
            await agent.check_in()
        return [(agent.rule("http://lifted.example/").verdict.value, agent.problem) for agent in agents]

    run_async(put_and_taken_back())
    assert portero.devices.get("alone-5").rollout.state == "current"


def test_a_tampered_overlay_is_noticed(policy_of_one, join):
    folder = policy_of_one
    overlay = next((folder / "overlays").iterdir())
    overlay.write_bytes(overlay.read_bytes()[:-1] + b"x")
    agent = agent_in(folder)
    assert "cannot be trusted" in agent.problem
    assert agent.rulings is None


@pytest.fixture
def policy_of_one(portero, join):
    """A machine that holds an overlay; its folder."""
    folder = join("alone-3")
    rules = [{"host": "one.example", "action": "block"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "one", "kind": "indicator", "rules": rules}))
    new = {"ruleset": "one", "to": [{"device": "alone-3"}]}
    portero.assignments.create(NewAssignment.model_validate(new))
    run_async(check_in(folder))
    assert agent_in(folder).rule("http://one.example/").layer.winner.target.device == "alone-3"
    return folder


def test_what_holds_until_restart_ends_on_a_machine_that_joined_by_itself(join, portero, monkeypatch):
    rules = [{"host": "seminar.example", "action": "block"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "seminar", "kind": "indicator", "rules": rules}))
    new = {"ruleset": "seminar", "to": "whole-fleet", "until_restart": True}
    portero.assignments.create(NewAssignment.model_validate(new))
    folder, course = join("restarting-1"), "http://seminar.example/"
    assert portero.devices.get("restarting-1").facts.last_start is not None
    assert "block" in run_endpoint("visit", course, "--data", folder).stdout
    time.sleep(0.01)
    later = datetime.now(UTC)
    monkeypatch.setattr(endpoint_commands, "last_start", lambda: later)
    assert "allow" in run_endpoint("visit", course, "--data", folder).stdout
    run_async(_told(folder, later))
    assert abs(portero.devices.get("restarting-1").facts.last_start - later) < timedelta(seconds=1)
    told = portero.checks.check(Attempt(device="restarting-1", url=course, at=later + timedelta(minutes=1)))
    assert (told.intended.verdict, told.effective.verdict) == ("allow", "allow")


def test_a_machine_tells_who_is_signed_in_as_that_changes(portero, join):
    folder, there = join("signed-1"), [("watch-1",), ("watch-1",), ("purser-1", "watch-1"), ()]

    async def told() -> list[tuple[str, ...]]:
        found = []
        async with new_http() as http:
            agent = Agent(Folder(folder), http, lambda: WEDNESDAY, signed_in=lambda: there[0])
            while there:
                await agent.check_in()
                found.append((await asyncio.to_thread(portero.devices.get, "signed-1")).facts.signed_in)
                there.pop(0)
        return found

    expected = list(there)
    assert run_async(told()) == expected


async def _told(folder, last_start: datetime) -> None:
    async with new_http() as http:
        await Agent(Folder(folder), http, last_start=last_start).check_in()


@pytest.mark.parametrize("stat", ["cpu 1 2\nbtime 1764000000\n", "cpu 1\n", "btime soon\n", ""])
def test_when_the_machine_was_started(tmp_path, monkeypatch, stat):
    (tmp_path / "stat").write_text(stat)
    monkeypatch.setattr(machine, "_STAT", tmp_path / "stat")
    expected = datetime.fromtimestamp(1764000000, UTC) if "btime 17" in stat else None
    assert machine.last_start() == expected
    (tmp_path / "stat").unlink()
    assert machine.last_start() is None

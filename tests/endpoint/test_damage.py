"""A machine whose disk is full or damaged, or into whose folder somebody puts what is older or another's: it goes on
enforcing, tells, and mends what it can.
"""

from __future__ import annotations

import contextlib
import errno
import json
import shutil

import httpx
import pytest

from conftest import Wire, assignment, group, ruleset, run_async, under
from damage import Away, flip, forget, index_file
from portero.core.nouns.attempt import Attempt
from portero.endpoint import folder as folders
from portero.endpoint.agent import Agent
from portero.endpoint.calls import NotTaken, ServiceUnreachable
from portero.endpoint.folder import Folder
from portero.formats.manifests import Manifest, open_manifest, sign_manifest

BLOCKED = "http://lucky-reef.example/"


@pytest.fixture(scope="module", autouse=True)
def policy(portero):
    portero.groups.create(group("office", all=[under("brackwater/office")]))
    portero.groups.create(group("quay", all=[under("brackwater/quay")]))
    portero.rulesets.create(ruleset("rules", gambling="block"))
    portero.assignments.create(assignment("rules", "office"))


@pytest.fixture
def machine(join, request):
    return join(f"damaged-{abs(hash(request.node.name)) % 1_000_000}")


def started(folder) -> Agent:
    """The agent as a program that starts anew: nothing is remembered."""
    forget()

    async def start() -> Agent:
        async with httpx.AsyncClient() as http:
            return Agent(Folder(folder), http)

    return run_async(start())


def check_in(agent: Agent, *away: str) -> Agent:
    """The same agent after a check-in."""

    async def once() -> None:
        async with httpx.AsyncClient(transport=Away(*away)) as agent._http:
            await agent.check_in()

    run_async(once())
    return agent


@pytest.mark.parametrize("described", [True, False], ids=["description", "file"])
def test_a_damaged_index_is_told_predicted_and_fetched_anew(machine, portero, service, described):
    hostname = machine.name
    flip(index_file(machine, described))
    agent = started(machine)
    assert "category index kept on this machine is missing or damaged" in agent.problems
    assert agent.rule(BLOCKED).verdict == "allow", "no host has a category without an index"
    with pytest.raises(ServiceUnreachable):
        check_in(agent, "index", "index-file")
    told = portero.checks.check(Attempt(device=hostname, url=BLOCKED))
    assert "stale-index" in {caveat.code for caveat in told.effective.caveats}
    assert portero.devices.get(hostname).rollout.state == "failed"
    check_in(agent)
    assert agent.problems is None
    assert agent.rule(BLOCKED).verdict == "block"
    assert portero.devices.get(hostname).rollout.state == "current"
    assert started(machine).problems is None


def test_an_index_that_is_damaged_while_it_is_in_use_is_fetched_anew(machine):
    agent = started(machine)
    assert agent.rule(BLOCKED).verdict == "block"
    flip(index_file(machine, described=False), 40)
    check_in(agent)
    assert started(machine).problems is None
    assert agent.rule(BLOCKED).verdict == "block"


@pytest.mark.parametrize("what", ["bundles", "parts", "manifest.jws"])
def test_a_bundle_that_is_damaged_while_it_is_in_use_stays_in_force_and_is_fetched_anew(machine, what):
    agent = started(machine)
    path = machine / what
    flip(next(path.iterdir()) if path.is_dir() else path)
    check_in(agent)
    assert agent.rule(BLOCKED).verdict == "block"
    again = started(machine)
    assert again.problems is None
    assert again.rule(BLOCKED).verdict == "block"


@pytest.mark.parametrize("damage", [b"", b"{", b"[1]", b"\xff\xfe", b"null"])
@pytest.mark.parametrize("name", ["people.json", "until-restart.json", "newest.json"])
def test_damaged_notes_are_begun_anew(machine, name, damage):
    (machine / name).write_bytes(damage)
    agent = started(machine)
    assert agent.rule(BLOCKED).verdict == "block"
    if damage:
        assert "anew" in agent.problems
    check_in(agent)
    assert started(machine).rule(BLOCKED).verdict == "block"


def with_agent(folder, work):
    """What the coroutine function comes to, of an agent that has just started."""

    async def run():
        async with httpx.AsyncClient() as http:
            return await work(Agent(Folder(folder), http))

    return run_async(run())


def test_damaged_activity_is_put_aside_and_what_comes_then_is_handed_over(machine, portero):
    async def one_visit(agent: Agent) -> str | None:
        ruling = agent.rule(BLOCKED)
        agent.record(ruling)
        agent.queue.close()
        return ruling.reference

    with_agent(machine, one_visit)
    for log in machine.glob("activity.sqlite3-*"):
        log.unlink()
    (machine / "activity.sqlite3").write_bytes(b"no database at all " * 500)

    async def mended(agent: Agent) -> str | None:
        assert "activity kept on this machine was damaged" in agent.problems
        ruling = agent.rule(BLOCKED)
        agent.record(ruling)
        await agent.check_in()
        assert await agent.report() == 1
        assert agent.problems is None
        return ruling.reference

    reference = with_agent(machine, mended)
    assert [found.reference for found in portero.activity.list(device=machine.name)] == [reference]


def test_activity_that_cannot_be_kept_at_all_is_handed_over_from_memory(machine, portero):
    for file in machine.glob("activity.sqlite3*"):
        file.unlink()
    (machine / "activity.sqlite3").mkdir()

    async def told(agent: Agent) -> str | None:
        assert "it is in memory only" in agent.problems
        ruling = agent.rule(BLOCKED)
        agent.record(ruling)
        await agent.check_in()
        assert await agent.report() == 1
        return ruling.reference

    reference = with_agent(machine, told)
    assert [found.reference for found in portero.activity.list(device=machine.name)] == [reference]


def test_activity_for_which_there_is_no_room_is_counted_as_lost(machine):
    async def full(agent: Agent) -> None:
        database = agent.queue._db
        (pages,) = database.execute("PRAGMA page_count").fetchone()
        database.execute(f"PRAGMA max_page_count = {pages}")
        for _ in range(300):
            assert agent.rule(BLOCKED).verdict == "block"
            agent.record(agent.rule(BLOCKED))
        assert "could not be kept on this machine: database or disk is full" in agent.problems
        await agent.check_in()
        assert agent.problems is None, "it has been told"
        database.execute("PRAGMA max_page_count = 100000")
        agent.record(agent.rule(BLOCKED))
        assert agent.problems is None

    with_agent(machine, full)


def test_on_a_full_disk_it_goes_on_and_tells_and_takes_what_it_should_once_there_is_room(machine, portero, monkeypatch):
    agent = started(machine)
    portero.rulesets.create(ruleset(machine.name, news="block"))
    portero.assignments.create(assignment(machine.name, "office"))

    def full(*_anything: object) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    with monkeypatch.context() as patched:
        patched.setattr("portero.endpoint.folder.write_owned", full)
        check_in(agent)
        assert agent.rule(BLOCKED).verdict == "block"
        assert "could not be kept on this machine: there is no room left on its disk" in agent.problems
        check_in(agent)
        told = portero.devices.get(machine.name).rollout
        assert (told.state, "no room left" in told.problem) == ("failed", True)
    check_in(agent)
    assert portero.devices.get(machine.name).rollout.state == "current"
    assert agent.problems is None


class Killed(BaseException):
    """As by SIGKILL: nothing after it is done."""


@pytest.mark.parametrize("written", range(5))
def test_a_kill_while_a_machine_comes_into_another_class_leaves_it_protected(machine, portero, monkeypatch, written):
    """After any number of files that were written."""
    portero.groups.create(group(f"of-{machine.name}", all=[{"field": "hostname", "op": "is", "value": machine.name}]))
    writing, real = iter(range(100)), folders.write_owned

    def killed(path, data) -> None:
        if next(writing) >= written:
            raise Killed
        real(path, data)

    with monkeypatch.context() as patched:
        patched.setattr(folders, "write_owned", killed)
        with contextlib.suppress(Killed):
            check_in(started(machine))
    agent = started(machine)
    assert agent.rule(BLOCKED).verdict == "block"
    check_in(agent)
    assert started(machine).problems is None
    assert portero.devices.get(machine.name).rollout.state == "current"


# --- what is put into the folder while it is off ---


def resigned(service, folder, **changes: object) -> None:
    """The manifest in the folder, changed, and signed by the service itself."""
    token = (folder / "manifest.jws").read_text()
    manifest = open_manifest(token, Folder(folder).identity().signing_key)
    fields = {name: getattr(manifest, name) for name in Manifest.__struct_fields__} | changes
    key = (service.data / "signing-key.pem").read_text()
    (folder / "manifest.jws").write_text(sign_manifest(Manifest(**fields), key))


def test_an_older_bundle_put_into_the_folder_is_refused(machine, portero, service):
    before = shutil.copytree(machine, machine.with_name("before"))
    portero.rulesets.create(ruleset(f"{machine.name}-new", news="block"))
    made = portero.assignments.create(assignment(f"{machine.name}-new", "office"))
    check_in(started(machine))
    for kept in ("manifest.jws", "bundles"):
        target = machine / kept
        shutil.rmtree(target) if target.is_dir() else target.unlink()
        source = before / kept
        (shutil.copytree if source.is_dir() else shutil.copy)(source, target)
    agent = started(machine)
    assert "older than" in agent.problems
    assert agent.manifest is None
    check_in(agent)
    assert agent.rule(BLOCKED).verdict == "block"
    portero.assignments.remove(made.key)


def test_the_bundle_of_another_class_put_into_the_folder_is_refused(machine, join):
    other = join(f"{machine.name}-quay", unit="brackwater/quay")
    assert started(other).rule(BLOCKED).verdict == "allow"
    for kept in ("manifest.jws", "bundles", "index"):
        shutil.rmtree(machine / kept) if (machine / kept).is_dir() else (machine / kept).unlink()
        (shutil.copytree if (other / kept).is_dir() else shutil.copy)(other / kept, machine / kept)
    agent = started(machine)
    assert "meant for machines in other groups" in agent.problems
    check_in(agent)
    assert agent.rule(BLOCKED).verdict == "block"


def test_a_manifest_that_names_another_classes_bundle_is_refused(machine, service):
    resigned(service, machine, groups=("whole-fleet",))
    (machine / "newest.json").unlink()
    agent = started(machine)
    assert "another class than its manifest says" in agent.problems


def test_after_manifest_2_a_machine_takes_no_manifest_1(machine, service):
    resigned(service, machine, portero_manifest=1, groups=(), epoch=0, format=1)
    agent = started(machine)
    assert "a manifest of format 1 comes after one of 2" in agent.problems


def test_a_later_epoch_is_taken_with_a_lower_revision_and_an_earlier_one_is_not(machine, service):
    newest = json.loads((machine / "newest.json").read_text())
    resigned(service, machine, epoch=newest["epoch"] + 1, revision=0)
    assert started(machine).problems is None
    (machine / "newest.json").write_text(json.dumps({**newest, "epoch": newest["epoch"] + 2}))
    assert f"epoch {newest['epoch'] + 1} after {newest['epoch'] + 2}" in started(machine).problems


def test_a_machine_of_an_earlier_portero_is_given_a_manifest_that_it_reads(service, portero):
    old = Wire(service, portero, "of-yesterday")
    offered = old.check_in(manifests=[1], bundles=[1, 2]).json()
    manifest = open_manifest(offered["manifest"], old.key)
    assert (manifest.portero_manifest, manifest.epoch, manifest.groups) == (1, 0, ())
    for reads, format in (([1, 2], 2), ([1, 2, 3], 3)):
        new = old.check_in(bundles=reads).json()
        manifest = open_manifest(new["manifest"], old.key)
        assert (manifest.portero_manifest, manifest.groups[-1], manifest.format) == (2, "whole-fleet", format)


def test_an_answer_without_end_is_not_taken(machine, monkeypatch):
    monkeypatch.setattr("portero.endpoint.calls.MAX_BUNDLE_BYTES", 50_000)
    agent = started(machine)

    class Endless(httpx.AsyncBaseTransport):
        async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
            async def body():
                for _ in range(10_000):
                    yield b" " * 10_000

            return httpx.Response(200, content=body())

    async def once() -> None:
        async with httpx.AsyncClient(transport=Endless()) as agent._http:
            await agent.check_in()

    with pytest.raises(NotTaken, match="longer than any that is taken"):
        run_async(once())
    assert agent.rule(BLOCKED).verdict == "block"

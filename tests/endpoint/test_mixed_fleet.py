"""A service and its machines are never brought up to date at the same moment: both ways they understand each other."""

from __future__ import annotations

from pathlib import Path

import httpx
import pytest

from conftest import assignment, run_async
from portero.core.nouns.assignment import NewAssignment
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.indicator import RulesEdit
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset
from portero.core.resolving.compiling import compile_bundle, compile_overlay
from portero.endpoint import agent as endpoint
from portero.endpoint.agent import Agent
from portero.endpoint.folder import Folder
from portero.formats.bundles import pack_bundle, pack_overlay
from portero.formats.manifests import Manifest, open_manifest, public_text_of, sign_manifest
from portero.store import classes, overlays
from portero.store.data_folder import SIGNING_KEY
from serving import Served

pytestmark = pytest.mark.process
OLD, NEW = (1, 2), (1, 2, 3)


class Machine:
    """An endpoint that reads some formats of bundles."""

    def __init__(self, folder: Path, reads: tuple[int, ...], monkeypatch) -> None:
        self.folder, self.reads, self._monkeypatch = Folder(folder), reads, monkeypatch

    def join(self, service: Served, code: str, hostname: str) -> Machine:
        async def join() -> None:
            async with httpx.AsyncClient() as http:
                await Agent.join(self.folder, http, service.url, code, Facts(hostname=hostname))

        run_async(join())
        return self

    def check_in(self) -> tuple[Agent, bool]:
        """What it is like after a check-in, from a start; and whether there was something new."""

        async def once() -> tuple[Agent, bool]:
            async with httpx.AsyncClient() as http:
                agent = Agent(self.folder, http)
                return agent, await agent.check_in()

        with self._monkeypatch.context() as patch:
            patch.setattr(endpoint, "READABLE_FORMATS", self.reads)
            return run_async(once())


def as_before(service: Served) -> None:
    """Leave the store as a Portero left it that knew no parts: whole bundles, signed."""
    key = (service.data / SIGNING_KEY).read_text()
    estate = service.keepers.estate.snapshot.estate
    with service.keepers.store.writing() as connection:

        def signed(token: str, **whole: object) -> str:
            manifest = open_manifest(token, public_text_of(key))
            fields = {name: getattr(manifest, name) for name in Manifest.__struct_fields__}
            return sign_manifest(Manifest(**{**fields, **whole, "format": 2}), key)

        whole_of = {}
        for known in classes.list_classes(connection):
            packed = pack_bundle(compile_bundle(estate, known.groups))
            classes.keep_bundle(connection, packed, 0)
            token = classes.wanted_of(connection, known.id).manifest
            manifest = signed(token, bundle=packed.digest, bytes=packed.size)
            classes.set_bundle(connection, known.id, packed.digest, known.revision, manifest, 0)
            whole_of[known.id] = known.groups, packed
        for row in overlays.all_rows(connection):
            groups, packed = whole_of[row["class"]]
            made = compile_overlay(estate, groups, (row["device"], "single-old", "single-new"))
            own = pack_overlay(made, packed.digest)
            (token,) = connection.execute(
                "SELECT manifest FROM device_overlay WHERE device = ?", (row["device"],)
            ).fetchone()
            manifest = signed(token, bundle=packed.digest, bytes=packed.size, overlay=own.digest)
            overlays.set_overlay(connection, row["device"], own, packed.digest, row["revision"], manifest, 0)
        connection.execute("UPDATE device SET applied_bundle = NULL, given_bundle = NULL")
        connection.execute("DELETE FROM part")
        connection.execute("UPDATE setting SET value = '2/1' WHERE name = 'signed'")


@pytest.fixture
def service(tmp_path):
    served = Served.of(tmp_path / "service")
    yield served
    served.stop()


def restarted(service: Served) -> Served:
    """The same service, of today's Portero, on the same port's neighbour: machines are told its address."""
    service.stop()
    then = Served.of(service.data)
    then.password = service.password
    return then


def moved(machine: Machine, service: Served) -> None:
    identity = machine.folder.identity()
    identity.service = service.url
    machine.folder.keep_identity(identity)


@pytest.mark.parametrize("single", [False, True], ids=["of-a-class", "with-something-of-its-own"])
def test_a_fleet_goes_through_an_upgrade(tmp_path, service, monkeypatch, single):
    portero = service.client()
    hosts = [{"host": f"{place}.listed.example", "action": "block"} for place in range(50)]
    portero.rulesets.create(Ruleset.model_validate({"key": "listed", "kind": "indicator", "rules": hosts}))
    portero.assignments.create(assignment("listed", "whole-fleet"))
    names = ("single-old", "single-new")
    if single:
        rules = [{"host": "own.example", "action": "block"}]
        portero.rulesets.create(Ruleset.model_validate({"key": "own", "kind": "indicator", "rules": rules}))
        for name in names:
            made = {"key": name, "ruleset": "own", "to": {"device": name}}
            portero.assignments.create(NewAssignment.model_validate(made))
    code = portero.enrolment.create_code(NewEnrolmentCode(uses=2)).code
    # yesterday: the service knows no parts, and neither do its machines
    machines = [Machine(tmp_path / name, OLD, monkeypatch).join(service, code, name) for name in names]
    as_before(service)
    for machine in machines:
        agent, _ = machine.check_in()
        assert agent.manifest.format == 2
        assert agent.rule("http://7.listed.example/").verdict == "block"
    had = [machine.check_in()[0].manifest.name for machine in machines]

    # the service is brought up to date: machines that are not yet have what they should, and fetch nothing
    service = restarted(service)
    portero = service.client()
    try:
        for machine, name in zip(machines, had, strict=True):
            moved(machine, service)
            agent, _ = machine.check_in()
            assert agent.manifest.name == name
            assert portero.devices.get(machine.folder.path.name).rollout.state == "current"

        # then one of the machines
        machines[1].reads = NEW
        agent, is_new = machines[1].check_in()
        assert is_new
        assert agent.manifest.format == 3
        assert agent.rule("http://7.listed.example/").verdict == "block"

        # and whatever changes reaches both
        portero.indicators.edit("listed", RulesEdit(put=(Rule(host="one-more.example", action="block"),)))
        for machine in machines:
            assert portero.devices.get(machine.folder.path.name).rollout.state == "waiting"
            agent, is_new = machine.check_in()
            assert is_new
            assert agent.rule("http://one-more.example/").verdict == "block"
            assert agent.rule("http://own.example/").verdict == ("block" if single else "allow")
            assert portero.devices.get(machine.folder.path.name).rollout.state == "current"
            assert machine.check_in()[1] is False
        assert machines[0].check_in()[0].manifest.format == 2
    finally:
        service.stop()


def test_a_machine_that_knows_parts_reads_what_it_kept_from_before(tmp_path, service, monkeypatch):
    portero = service.client()
    rules = [{"host": "kept.example", "action": "block"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "listed", "kind": "indicator", "rules": rules}))
    portero.assignments.create(assignment("listed", "whole-fleet"))
    code = portero.enrolment.create_code(NewEnrolmentCode()).code
    machine = Machine(tmp_path / "kept", OLD, monkeypatch).join(service, code, "kept")
    machine.check_in()
    assert not (machine.folder.path / "parts").exists()

    async def start() -> Agent:
        async with httpx.AsyncClient() as http:
            return Agent(machine.folder, http)

    agent = run_async(start())
    assert agent.problems is None
    assert (agent.manifest.format, agent.rule("http://kept.example/").verdict) == (2, "block")

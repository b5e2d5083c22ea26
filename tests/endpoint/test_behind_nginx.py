"""A fleet behind a real nginx, with the configuration that ships: what is fetched comes out of its cache, and nobody
gets what the service would not give them.
"""

from __future__ import annotations

import time

import httpx
import pytest

from conftest import Wire, assignment, group, run_async, under
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.indicator import RulesEdit
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset
from portero.endpoint.agent import Agent
from portero.endpoint.folder import Folder
from portero.formats.bundles import read_bundle
from portero.formats.manifests import open_manifest
from proxied import proxied
from serving import Served

pytestmark = pytest.mark.process
MACHINES = 40


@pytest.fixture(scope="module")
def service(tmp_path_factory):
    served = Served.of(tmp_path_factory.mktemp("behind"))
    yield served
    served.stop()


@pytest.fixture(scope="module")
def portero(service):
    with service.client() as client:
        yield client


@pytest.fixture(scope="module")
def proxy(service, portero, tmp_path_factory):
    """nginx before a service with a list for everybody, and one for each of two units."""
    rules = [{"host": f"{place * 7919:x}.listed.example", "action": "block"} for place in range(4_000)]
    portero.rulesets.create(Ruleset.model_validate({"key": "listed", "kind": "indicator", "rules": rules}))
    portero.assignments.create(assignment("listed", "whole-fleet"))
    for unit in ("ships", "yard"):
        portero.groups.create(group(unit, all=[under(f"brackwater/{unit}")]))
        own = [{"host": f"{unit}.example", "action": "block"}]
        portero.rulesets.create(Ruleset.model_validate({"key": f"of-{unit}", "kind": "indicator", "rules": own}))
        portero.assignments.create(assignment(f"of-{unit}", unit))
    with proxied(tmp_path_factory.mktemp("nginx"), service.port) as found:
        yield found


class Behind(Wire):
    """A device that speaks through the proxy."""

    def __init__(self, proxy, service, portero, hostname: str, **facts: object) -> None:
        super().__init__(service, portero, hostname, **facts)
        self.http = httpx.Client(
            base_url=proxy.url + "/device/v1", timeout=40, headers={"Authorization": self.http.headers["Authorization"]}
        )

    def offered(self) -> str:
        """The digest of the document that it should have."""
        return open_manifest(self.check_in().json()["manifest"], self.key).bundle

    def parts(self) -> list[str]:
        digest = self.offered()
        return sorted(read_bundle(self.http.get("/bundle/" + digest).content, digest).parts)


@pytest.fixture(scope="module")
def ship(proxy, service, portero):
    return Behind(proxy, service, portero, "behind-ship", unit="brackwater/ships")


@pytest.fixture(scope="module")
def yard(proxy, service, portero):
    return Behind(proxy, service, portero, "behind-yard", unit="brackwater/yard")


def test_the_bytes_of_a_change_for_a_whole_fleet_come_out_of_the_cache(proxy, service, portero, tmp_path):
    code = portero.enrolment.create_code(NewEnrolmentCode(uses=MACHINES)).code
    folders = [Folder(tmp_path / f"machine-{number}") for number in range(MACHINES)]

    async def join() -> None:
        async with httpx.AsyncClient(timeout=30) as http:
            for number, folder in enumerate(folders):
                await Agent.join(folder, http, proxy.url, code, Facts(hostname=f"machine-{number}", unit="brackwater"))

    async def check_in() -> list[str]:
        found = []
        async with httpx.AsyncClient(timeout=30) as http:
            for folder in folders:
                agent = Agent(folder, http, tells_facts=False)
                await agent.check_in()
                assert agent.problems is None
                found.append(agent.rule("http://brought.example/").verdict.value)
        return found

    run_async(join())
    assert set(run_async(check_in())) == {"allow"}
    proxy.requests()
    # another list takes the place of the one that there is: none of it is known to any machine
    rules = [{"host": f"{place * 104_729:x}.brought.example", "action": "block"} for place in range(24_000)]
    rules.append({"host": "brought.example", "action": "block"})
    portero.rulesets.create(Ruleset.model_validate({"key": "brought", "kind": "indicator", "rules": rules}))
    portero.assignments.create(assignment("brought", "whole-fleet"))
    assert set(run_async(check_in())) == {"block"}
    asked = proxy.requests()
    sent, cached = sum(one.bytes for one in asked), sum(one.bytes for one in asked if one.is_cached)
    assert sent > MACHINES * 60_000
    assert cached / sent > 0.95, (cached, sent)
    assert [one.cache for one in asked if "/part/" in one.path].count("MISS") == 1


def test_a_machine_gets_out_of_the_cache_what_it_may_have_and_nothing_else(proxy, ship, yard):
    for device in (ship, yard):
        for digest in device.parts():
            assert device.http.get(f"/part/{digest}").status_code == 200
    proxy.requests()
    (foreign,) = set(yard.parts()) - set(ship.parts())
    assert ship.http.get(f"/part/{foreign}").status_code == 404, "it is in the cache, and not for this machine"
    assert ship.http.get(f"/bundle/{yard.offered()}").status_code == 404
    nobody = httpx.get(f"{proxy.url}/device/v1/part/{foreign}")
    assert nobody.status_code == 401
    assert nobody.json()["type"] == "urn:portero:problem:not-signed-in"
    other = {"Authorization": "Bearer pd_made-up"}
    assert httpx.get(f"{proxy.url}/device/v1/part/{foreign}", headers=other).status_code == 401
    assert not [one for one in proxy.requests() if one.status == 200 and one.path.endswith(foreign) and one.is_cached]
    assert yard.http.get(f"/part/{foreign}").headers["Portero-Cache"] == "HIT"


def test_a_difference_goes_to_those_who_had_what_it_begins_with(service, proxy, portero, ship, yard):
    before = ship.parts()
    for device in (ship, yard):
        device.sync()
    portero.indicators.edit("listed", RulesEdit(put=(Rule(host="one-more.example", action="block"),)))
    (old,), (new,) = set(before) - set(ship.parts()), set(ship.parts()) - set(before)
    for device in (ship, yard):
        answer = device.http.get(f"/part/{new}?from={old}")
        assert (answer.headers["Portero-From"], len(answer.content) < 500) == (old, True)
    assert answer.headers["Portero-Cache"] == "HIT"
    late = Behind(proxy, service, portero, "behind-late", unit="brackwater/ships")
    late.check_in()
    for asked in (f"from={old}", f"from={old}&from={new}", f"from={new}&from={old}", f"a=b&from={old}"):
        answer = late.http.get(f"/part/{new}?{asked}")
        assert (answer.status_code, "Portero-From" in answer.headers) == (200, False), asked


def test_what_broke_off_is_gone_on_with_out_of_the_cache(ship):
    digest = max(ship.parts(), key=lambda one: len(ship.http.get(f"/part/{one}").content))
    whole = ship.http.get(f"/part/{digest}")
    rest = ship.http.get(f"/part/{digest}", headers={"Range": "bytes=1000-"})
    assert (rest.status_code, whole.content[:1000] + rest.content) == (206, whole.content)
    assert rest.headers["Portero-Cache"] == "HIT"
    tag = {"If-None-Match": whole.headers["ETag"]}
    assert ship.http.get(f"/part/{digest}", headers=tag).status_code == 304


def test_a_held_request_goes_through(portero, ship):
    ship.sync()
    offered = ship.check_in().json()
    answer = ship.http.get("/wait", params={"have": offered["bundle"], "hold": 1})
    assert answer.status_code == 204


def test_with_the_service_away_machines_get_what_they_were_let_have(tmp_path):
    served = Served.of(tmp_path / "service")
    portero = served.client()
    rules = [{"host": f"{place}.listed.example", "action": "block"} for place in range(2_000)]
    portero.rulesets.create(Ruleset.model_validate({"key": "listed", "kind": "indicator", "rules": rules}))
    portero.assignments.create(assignment("listed", "whole-fleet"))
    # what the service said is forgotten after a second: it stays good as the service cannot be asked
    with proxied(tmp_path / "nginx", served.port, remembered="1s") as proxy:
        device = Behind(proxy, served, portero, "alone")
        stranger = Behind(proxy, served, portero, "stranger")
        (part,) = device.parts()
        whole = device.http.get(f"/part/{part}").content
        known = portero.devices.get(stranger.id)
        portero.devices.revoke(known.id)
        served.stop()

        time.sleep(1.5)
        answer = device.http.get(f"/part/{part}")
        assert (answer.status_code, answer.content) == (200, whole)
        # who was never let have it does not get it
        assert stranger.http.get(f"/part/{part}").status_code == 502
        assert httpx.get(f"{proxy.url}/device/v1/part/{part}").status_code == 502
        assert device.http.post("/check-in", json={}).status_code == 502

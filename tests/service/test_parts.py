"""Parts on the wire: each made, kept and fetched once, by those whose bundle names it and by nobody else."""

from __future__ import annotations

import io
import tarfile

import pytest

from conftest import Wire, assignment, group, under
from portero.core.digests import digits_of
from portero.core.nouns.indicator import RulesEdit
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset
from portero.formats.bundles import read_bundle
from portero.formats.manifests import open_manifest
from portero.formats.packing import apply_difference, is_packed
from portero.service import housekeeping

pytestmark = pytest.mark.process
RULES = 3_000


def indicators(key: str, number: int) -> Ruleset:
    rules = [{"host": f"{place * 7919:x}.{key}.example", "action": "block"} for place in range(number)]
    return Ruleset.model_validate({"key": key, "kind": "indicator", "rules": rules})


def one_more(portero, key: str, host: str) -> None:
    portero.indicators.edit(key, RulesEdit(put=(Rule(host=host, action="block"),)))


@pytest.fixture(scope="module")
def fleet(service, portero):
    """Three units with a machine each, under one list for all and one for each."""
    machines = {}
    portero.rulesets.create(indicators("all", RULES))
    portero.assignments.create(assignment("all", "whole-fleet"))
    for unit in ("ships", "yard", "office"):
        portero.groups.create(group(unit, all=[under(f"brackwater/{unit}")]))
        portero.rulesets.create(indicators(f"of-{unit}", 3))
        portero.assignments.create(assignment(f"of-{unit}", unit))
        machines[unit] = Wire(service, portero, f"machine-{unit}", unit=f"brackwater/{unit}")
    return machines


@pytest.fixture
def named(fleet):
    """The parts that each machine's bundle names, as it is told now."""

    def look(unit: str) -> frozenset[str]:
        device = fleet[unit]
        offered = device.check_in().json()
        digest = open_manifest(offered["manifest"], device.key).bundle
        return frozenset(read_bundle(device.http.get("/bundle/" + digest).content, digest).parts)

    return look


def kept(service, table: str = "part") -> dict[str, int]:
    with service.keepers.store.reading() as connection:
        return dict(connection.execute(f"SELECT digest, length(packed) FROM {table}").fetchall())


def test_one_indicator_for_everybody_is_one_part_and_small_documents(service, portero, fleet, named):
    named("ships")
    parts, documents = kept(service), kept(service, "bundle")
    one_more(portero, "all", "one-more.example")
    new = kept(service).keys() - parts.keys()
    assert len(new) == 1
    anew = {digest: size for digest, size in kept(service, "bundle").items() if digest not in documents}
    assert len(anew) >= 3
    assert max(anew.values()) < 1_000 < kept(service)[new.pop()]


def test_classes_share_a_part_and_have_their_own(named):
    ships, yard = named("ships"), named("yard")
    assert len(ships & yard) == 1
    assert len(ships - yard) == 1


def test_a_machine_gets_the_parts_of_its_own_bundle_and_no_others(fleet, named):
    ships, yard = named("ships"), named("yard")
    for digest in ships:
        assert is_packed(fleet["ships"].http.get(f"/part/{digest}").content, digest)
    (foreign,) = yard - ships
    assert fleet["ships"].http.get(f"/part/{foreign}").status_code == 404
    assert fleet["ships"].http.post("/parts", json={"want": [*ships, foreign]}).status_code == 404
    assert fleet["yard"].http.get(f"/part/{foreign}").status_code == 200


def test_parts_are_kept_for_ever_and_gone_on_with_where_they_broke_off(fleet, named):
    http = fleet["ships"].http
    for digest in named("ships"):
        whole = http.get(f"/part/{digest}")
        assert "immutable" in whole.headers["Cache-Control"]
        tag = whole.headers["ETag"]
        assert http.get(f"/part/{digest}", headers={"If-None-Match": tag}).status_code == 304
        rest = http.get(f"/part/{digest}", headers={"Range": "bytes=10-"})
        assert (rest.status_code, whole.content[:10] + rest.content) == (206, whole.content)
        size = len(whole.content)
        assert rest.headers["Content-Range"] == f"bytes 10-{size - 1}/{size}"
        past = http.get(f"/part/{digest}", headers={"Range": f"bytes={size}-"})
        assert (past.status_code, past.headers["Content-Range"]) == (416, f"bytes */{size}")


def test_all_that_is_lacking_comes_in_one_answer(fleet, named, monkeypatch):
    wanted = sorted(named("ships"))
    fetched = members(fleet["ships"], wanted)
    assert set(fetched) == {digits_of(digest) for digest in wanted}
    assert all(is_packed(fetched[digits_of(digest)], digest) for digest in wanted)
    monkeypatch.setattr("portero.service.wire.content.MOST_AT_ONCE", 1)
    assert len(members(fleet["ships"], wanted)) == 1, "the rest is asked for again"


def members(device: Wire, wanted: list[str]) -> dict[str, bytes]:
    answer = device.http.post("/parts", json={"want": wanted})
    assert answer.headers["Content-Type"] == "application/x-tar"
    with tarfile.open(fileobj=io.BytesIO(answer.content)) as archive:
        return {member.name: archive.extractfile(member).read() for member in archive}


@pytest.mark.parametrize("body", [{}, {"want": []}, {"want": ["x"] * 2_001}, {"want": ["x" * 81]}, {"want": 7}, []])
def test_a_message_about_parts_that_makes_no_sense_is_refused(fleet, body):
    assert fleet["ships"].http.post("/parts", json=body).status_code == 400


def test_a_part_comes_as_the_difference_to_one_that_the_machine_was_given(service, portero, fleet, named):
    device = fleet["ships"]
    device.sync()
    before = named("ships")
    one_more(portero, "all", "differs.example")
    after = named("ships")
    (old,), (new,) = before - after, after - before
    answer = device.http.get(f"/part/{new}?from={old}")
    assert answer.headers["Portero-From"] == old
    with service.keepers.store.reading() as connection:
        held = connection.execute("SELECT packed FROM part WHERE digest = ?", (old,)).fetchone()[0]
    assert is_packed(apply_difference(held, answer.content, new), new)
    whole = device.http.get(f"/part/{new}")
    assert len(answer.content) < 200 < len(whole.content)
    # another machine has never had it, whatever it says
    (foreign,) = named("yard") - named("ships")
    assert "Portero-From" not in device.http.get(f"/part/{new}?from={foreign}").headers
    assert "Portero-From" not in device.http.get(f"/part/{new}?from=sha256:none").headers


def test_parts_that_nothing_names_are_collected(service, portero, fleet, named, monkeypatch):
    for device in fleet.values():
        device.sync()
    monkeypatch.setattr(housekeeping, "GRACE", -1.0)
    service.keepers.housekeeper.collect()
    with service.keepers.store.reading() as connection:
        names = {row[0] for row in connection.execute("SELECT digest FROM bundle")}
    held = {part for digest in names for part in service.keepers.bundles.parts_of(digest)}
    assert kept(service).keys() == held
    one_more(portero, "all", "last.example")
    service.keepers.housekeeper.collect()
    assert held < kept(service).keys(), "machines have the former still, and get the new one as a difference"
    for device in fleet.values():
        device.sync()
    service.keepers.housekeeper.collect()
    assert kept(service).keys() == named("ships") | named("yard") | named("office")


def test_a_change_that_counts_on_a_part_that_is_collected_meanwhile_keeps_it(service, portero, fleet, monkeypatch):
    """The part of a ruleset that nobody has any more goes just when it comes into force again."""
    monkeypatch.setattr(housekeeping, "GRACE", -1.0)
    portero.rulesets.create(indicators("returning", 5))
    made = portero.assignments.create(assignment("returning", "whole-fleet"))
    portero.assignments.remove(made.key)
    for device in fleet.values():
        device.sync()
    keepers = service.keepers
    planner = keepers.estate._planner
    plan, collected = planner.plan, []

    def planned(*arguments):
        found = plan(*arguments)
        if not collected:
            collected.append(True)
            keepers.housekeeper.collect()
        return found

    monkeypatch.setattr(planner, "plan", planned)
    portero.assignments.create(assignment("returning", "whole-fleet"))
    assert collected
    bundle, _ = fleet["ships"].sync()
    assert any(one.ruleset == "returning" and len(one.rules) == 5 for one in bundle.assignments)

"""The catalogue follows what machines tell: by identity, with versions, counts kept, and when each was seen."""

from __future__ import annotations

import random
from collections import Counter
from contextlib import closing

import pytest

from conftest import Wire, assignment
from portero.client import Invalid, NotFound
from portero.core.nouns.application_correction import ApplicationCorrection
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.ruleset import Ruleset
from portero.service import keepers
from portero.store import catalogue

pytestmark = pytest.mark.process


def told(product: str, version: str | None = None, **more: str) -> dict[str, str]:
    versioned = {"version": version} if version else {}
    return {
        "path": f"/opt/{product.lower()}-{version}",
        "product": product,
        "vendor": "Gnomon Works",
        **versioned,
        **more,
    }


def entry(portero, name: str):
    (found,) = (one for one in portero.applications.list(q=name) if one.name == name)
    return found


def test_a_program_is_one_whatever_its_versions_and_is_counted_once_a_machine(service, portero):
    first, second = Wire(service, portero, "cat-1"), Wire(service, portero, "cat-2")
    first.check_in(programs={"new": [told("Gnomon Mail", "1.0"), told("GNOMON mail", "1.1", category="mail")]})
    second.check_in(programs={"new": [told("Gnomon Mail", "1.1", category="mail"), {"path": "/opt/x", "file": "x"}]})
    mail = entry(portero, "Gnomon Mail")
    assert (mail.devices, mail.versions, mail.newest, mail.category) == (2, 2, "1.1", "mail")
    assert mail.condition.model_dump(exclude_none=True) == {"product": "Gnomon Mail", "vendor": "Gnomon Works"}
    assert entry(portero, "x").condition.model_dump(exclude_none=True) == {"file": "x"}
    shown = portero.applications.get(mail.id)
    assert {(one.version, one.devices) for one in shown.all_versions} == {("1.0", 1), ("1.1", 2)}
    assert [(one.hostname, one.versions) for one in portero.applications.devices(mail.id)] == [
        ("cat-1", "1.0, 1.1"),
        ("cat-2", "1.1"),
    ]
    assert [one.name for one in portero.applications.list(category="mail")] == ["Gnomon Mail"]
    assert [one.name for one in portero.applications.list(q="works gnomon")] == ["Gnomon Mail"]
    assert mail.id in {one.id for one in portero.applications.list(new=True)}


def test_what_is_gone_everywhere_is_told_since_when_and_comes_back(service, portero):
    wire = Wire(service, portero, "cat-gone")
    wire.check_in(programs={"new": [told("Brief", "1")]})
    wire.check_in(programs={"new": []})
    assert list(portero.applications.list(q="brief")) == []
    (gone,) = portero.applications.list(q="brief", gone=True)
    assert (gone.devices, gone.last_seen is not None) == (0, True)
    wire.check_in(programs={"new": [told("Brief", "2")]})
    back = entry(portero, "Brief")
    assert (back.id, back.devices, back.last_seen, back.newest) == (gone.id, 1, None, "2")
    portero.devices.retire("cat-gone")
    assert list(portero.applications.list(q="brief")) == []


def test_what_a_set_catches_takes_in_and_lets_go(service, portero):
    one, other = Wire(service, portero, "catch-1"), Wire(service, portero, "catch-2")
    one.check_in(programs={"new": [told("Caught", "1.0", category="chat"), told("Caught", "2.0"), told("Spared", "1")]})
    other.check_in(programs={"new": [told("Caught", "1.0", category="chat")]})
    saved = ApplicationSet.model_validate(
        {"key": "catching", "include": [{"product": "caught", "version": {"below": "2"}}]}
    )
    first = portero.application_sets.catch(saved)
    assert [(found.name, found.versions, found.devices) for found in first.programs] == [("Caught", ("1.0",), 2)]
    assert (first.devices, first.adds, first.releases) == (2, first.programs, ())
    assert first.sentence == "It holds Caught on 2 machines."
    portero.application_sets.create(saved)
    edited = ApplicationSet.model_validate(
        {"key": "catching", "include": [{"vendor": "Gnomon Works"}], "exclude": [{"product": "Caught"}]}
    )
    found = portero.application_sets.catch(edited)
    assert "Spared" in {one.name for one in found.adds}
    assert [(one.name, one.versions) for one in found.releases] == [("Caught", ("1.0",))]
    whole = ApplicationSet.model_validate(
        {"key": "outer", "sets": ["catching"], "include": [{"path": "/opt/spared-1"}]}
    )
    assert [one.name for one in portero.application_sets.catch(whole).programs] == ["Caught", "Spared"]
    with pytest.raises(Invalid, match="no application set “nowhere”"):
        portero.application_sets.catch(ApplicationSet(key="outer", sets=("nowhere",)))
    nothing = portero.application_sets.catch(ApplicationSet(key="empty"))
    assert (nothing.programs, nothing.sentence) == ((), "It holds no program that a machine has now.")


def test_what_came_after_a_set_was_written_is_told_until_it_is_left_out(service, portero):
    wire = Wire(service, portero, "came-1")
    before = told("Comer", "1.0")
    wire.check_in(programs={"new": [before]})
    saved = ApplicationSet.model_validate({"key": "comers", "include": [{"product": "Comer"}]})
    portero.application_sets.create(saved)
    assert portero.application_sets.catch(saved).came == ()
    wire.check_in(programs={"new": [before, told("Comer", "2.0"), told("Other", "1.0")]})
    found = portero.application_sets.catch(saved)
    (came,) = found.came
    assert (came.name, came.versions, came.devices) == ("Comer", ("2.0",), 1)
    assert found.written_at is not None
    named = came.condition.model_dump(exclude_none=True) | {"version": {"is": "2.0"}}
    less = ApplicationSet.model_validate({**saved.model_dump(mode="json"), "exclude": [named]})
    left = portero.application_sets.catch(less)
    assert (left.came, [one.versions for one in left.releases]) == ((), [("2.0",)])
    portero.application_sets.put(less)
    assert portero.application_sets.catch(less).came == ()
    assert portero.application_sets.catch(ApplicationSet(key="unsaved", include=less.include)).written_at is None


def test_what_a_product_is_for_is_put_right_wherever_it_is_asked(service, portero):
    wire = Wire(service, portero, "purpose-1")
    wire.check_in(programs={"new": [told("Put/Right", "1", category="media"), told("Left", "1", category="media")]})
    meant = ApplicationSet.model_validate({"key": "purposes", "include": [{"category": "imaging"}]})
    portero.application_sets.create(meant)
    assert portero.application_sets.catch(meant).programs == ()
    correction = ApplicationCorrection(product="PUT/right", category="imaging", reason="It draws")
    made = portero.application_corrections.put(correction)
    assert (made.by, made.machines_tell, made.at is not None) == ("keeper", ("media",), True)
    program = portero.applications.get(entry(portero, "Put/Right").id)
    assert (program.category, program.machines_tell, program.is_corrected) == ("imaging", "media", True)
    assert program.correction == made
    assert [one.name for one in portero.applications.list(category="imaging")] == ["Put/Right"]
    assert [one.name for one in portero.applications.list(corrected=True, category="imaging")] == ["Put/Right"]
    assert "Put/Right" not in [one.name for one in portero.applications.list(category="media")]
    counts = {one.category: one.programs for one in portero.applications.categories()}
    assert (counts["imaging"], counts["media"]) == (1, 1)
    assert [one.name for one in portero.application_sets.catch(meant).programs] == ["Put/Right"]
    with pytest.raises(Invalid, match="stands twice"):
        portero.application_corrections.put(correction.model_copy(update={"product": "put/RIGHT"}))
    portero.application_corrections.remove("PUT/right", version=made.version)
    assert portero.application_sets.catch(meant).programs == ()
    assert portero.applications.get(program.id).correction is None


def test_a_rule_of_a_category_follows_what_a_product_was_corrected_to(service, portero):
    shells = {"key": "shells", "include": [{"category": "developer-tools"}]}
    rules = [{"application_set": "shells", "action": "block"}]
    portero.application_sets.create(ApplicationSet.model_validate(shells))
    portero.rulesets.create(Ruleset.model_validate({"key": "no-shells", "kind": "startup", "rules": rules}))
    portero.assignments.create(assignment("no-shells", "whole-fleet"))
    wire = Wire(service, portero, "purpose-2")
    wire.check_in(programs={"new": [told("Shell Box", "1", category="media")]})
    attempt = Attempt.model_validate({"device": "purpose-2", "start": {"product": "shell box", "category": "media"}})
    correction = ApplicationCorrection(product="Shell Box", category="developer-tools")
    assert portero.checks.check(attempt).intended.verdict == "allow"
    preview = portero.preview(lambda asked: asked.application_corrections.put(correction))
    assert "Shell Box" in preview.model_dump_json()
    portero.application_corrections.put(correction)
    assert portero.checks.check(attempt).intended.verdict == "block"


def test_what_is_not_there_is_said(portero):
    with pytest.raises(NotFound, match="no program 12345"):
        portero.applications.get(12345)
    assert list(portero.applications.devices(12345)) == []


def test_counts_are_what_counting_would_find_whatever_machines_tell(service, portero):
    chance = random.Random(5)
    wires = [Wire(service, portero, f"cat-many-{number}") for number in range(4)]
    for _ in range(30):
        some = [told(f"Many {chance.randrange(4)}", str(chance.randrange(3))) for _ in range(chance.randrange(6))]
        chance.choice(wires).check_in(programs={"new": some})
    with service.keepers.store.reading() as connection:
        installed = connection.execute(
            "SELECT device, version, program FROM installed JOIN program_version ON id = version"
        ).fetchall()
        versions = Counter(row["version"] for row in installed)
        programs = Counter(program for _, program in {(row["device"], row["program"]) for row in installed})
        for table, counts in (("program_version", versions), ("program", programs)):
            kept = dict(connection.execute(f"SELECT id, devices FROM {table}").fetchall())
            assert {id: number for id, number in kept.items() if number} == dict(counts)


def test_a_store_without_a_catalogue_is_given_one_at_its_start(service, portero, tmp_path):
    Wire(service, portero, "cat-early").check_in(programs={"new": [told("Early", "1")]})
    with service.keepers.store.writing() as connection:
        for table in ("installed", "program_version", "program"):
            connection.execute(f"DELETE FROM {table}")
        catalogue.fill(connection, 1_000.0)
        catalogue.fill(connection, 2_000.0)
        (first,) = connection.execute("SELECT first FROM program WHERE name = 'Early'").fetchone()
    assert (first, entry(portero, "Early").devices) == (1_000.0, 1)
    with closing(keepers.open_keepers(tmp_path / "new")) as opened:
        assert opened.store is not None


def test_what_is_put_into_a_watched_folder_becomes_a_member(service, portero):
    wire = Wire(service, portero, "drop-01")
    watches = [{"device": "drop-01", "folder": "/srv/unwanted"}]
    portero.application_sets.create(ApplicationSet.model_validate({"key": "unwanted", "watches": watches}))
    put = {"path": "/srv/unwanted/carry", "product": "Put There", "version": "2", "sha256": "d" * 64}
    wire.check_in(programs={"new": [put, {"path": "/opt/other", "file": "other", "sha256": "e" * 64}]})
    service.keepers.let_time_pass()
    assert [one.sha256 for one in portero.application_sets.get("unwanted").include] == ["d" * 64]
    newest = next(portero.revisions.list())
    assert (newest.by, newest.reason) == ("the service", "Put There 2 was put into a watched folder")
    service.keepers.let_time_pass()
    assert next(portero.revisions.list()).number == newest.number
    assert [one.name for one in portero.application_sets.catch(portero.application_sets.get("unwanted")).programs] == [
        "Put There"
    ]

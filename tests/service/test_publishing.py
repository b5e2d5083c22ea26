"""From a change to bundles: only what it touches is compiled anew, and only those whom it concerns are woken."""

from __future__ import annotations

import pytest

from conftest import assignment, group, ruleset, under
from portero.core.nouns.correction import Correction
from portero.core.nouns.coverage import CoverageRow
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.settings import GroupLayers, Settings
from portero.formats.manifests import open_manifest
from portero.service.keepers import Keepers, open_keepers
from portero.store import classes

UNITS = ("a", "b", "c")


@pytest.fixture
def keepers(tmp_path):
    made = open_keepers(tmp_path)
    groups = tuple(group(unit, all=[under(unit)]) for unit in UNITS)
    change(made, groups=groups)
    change(made, rulesets=(ruleset("quiet", music="block"), ruleset("strict", games="block")))
    code = made.enrolment.make_code(NewEnrolmentCode(uses=10), "test").code
    for unit in UNITS:
        assert made.enrolment.join(code, Facts(hostname=f"machine-{unit}", unit=unit))
    change(made, assignments=tuple(assignment("quiet", unit).keyed(()) for unit in ("a", "b")))
    yield made
    made.close()


def change(keepers: Keepers, **parts: object) -> None:
    keepers.estate.change(lambda snapshot: snapshot.estate.replacing(**parts), by="test")


def bundles(keepers: Keepers) -> dict[str, str]:
    """Digest of the bundle of each unit's machines."""
    with keepers.store.reading() as connection:
        return {device_class.groups[0]: device_class.digest for device_class in classes.list_classes(connection)}


def touched(keepers: Keepers, **parts: object) -> set[str]:
    """The units whose machines get another bundle by a change; as the revision counts them, too."""
    before = bundles(keepers)
    change(keepers, **parts)
    after = bundles(keepers)
    changed = {unit for unit in after if after[unit] != before.get(unit)}
    with keepers.store.reading() as connection:
        counted = connection.execute("SELECT devices FROM revision ORDER BY number DESC LIMIT 1").fetchone()[0]
    assert counted == len(changed)
    return changed


def test_a_ruleset_touches_the_classes_it_is_assigned_to(keepers):
    estate = keepers.estate.snapshot.estate
    assert touched(keepers, rulesets=(ruleset("quiet", music="warn"), estate.rulesets[1])) == {"a", "b"}
    assert (
        touched(keepers, rulesets=(keepers.estate.snapshot.estate.rulesets[0], ruleset("strict", news="warn"))) == set()
    )


def test_an_assignment_touches_the_groups_it_left_and_those_it_came_to(keepers):
    first, second = keepers.estate.snapshot.estate.assignments
    moved = first.model_copy(update={"to": ("c",)})
    assert touched(keepers, assignments=(moved, second)) == {"a", "c"}


def test_layer_modes_touch_their_group_and_settings_touch_all(keepers):
    assert touched(keepers, layer_modes=(GroupLayers(group="b", filter="off"),)) == {"b"}
    observing = Settings.model_validate({"layers": {"filter": "observing"}})
    assert touched(keepers, settings=observing) == {"a", "c"}
    assert touched(keepers, settings=observing.model_copy(update={"gateway_networks": ("192.0.2.0/24",)})) == set(UNITS)


def test_a_correction_touches_all_and_the_coverage_table_nobody(keepers):
    assert touched(keepers, corrections=(Correction(host="x.example", categories=("news",)),)) == set(UNITS)
    row = {"control": "filter", "browser": "x", "http": "none", "https": "none", "date": "2026-11-01", "source": "s"}
    assert touched(keepers, coverage=(CoverageRow.model_validate(row),)) == set()


def test_an_order_touches_only_those_who_are_in_several_groups(keepers):
    assert touched(keepers, precedence=("c", "b", "a")) == set()


def test_a_change_that_comes_to_nothing_makes_no_revision(keepers):
    before = keepers.estate.snapshot.revision
    change(keepers, groups=keepers.estate.snapshot.estate.groups)
    assert keepers.estate.snapshot.revision == before


def test_a_change_back_gives_the_same_bundle_under_a_newer_revision(keepers):
    before, first = bundles(keepers), keepers.estate.snapshot.estate.assignments
    change(keepers, assignments=first[1:])
    assert bundles(keepers)["a"] != before["a"]
    change(keepers, assignments=first)
    assert bundles(keepers) == before
    with keepers.store.reading() as connection:
        known = next(device_class for device_class in classes.list_classes(connection) if device_class.groups[0] == "a")
        token = connection.execute("SELECT manifest FROM class WHERE id = ?", (known.id,)).fetchone()[0]
    manifest = open_manifest(token, keepers.public_key)
    assert (manifest.bundle, manifest.revision) == (before["a"], keepers.estate.snapshot.revision)


def test_an_edit_that_fails_leaves_store_and_memory_as_they_were(keepers):
    before = (bundles(keepers), keepers.estate.snapshot.revision, keepers.fleet.members.members())

    def broken(snapshot):
        groups = tuple(group(one.key, all=[under("elsewhere")]) for one in snapshot.estate.groups)
        return snapshot.estate.replacing(groups=groups, assignments=(assignment("nothing", "a").keyed(()),))

    with pytest.raises(Exception, match="There is no ruleset"):
        keepers.estate.change(broken, by="test")
    assert (bundles(keepers), keepers.estate.snapshot.revision, keepers.fleet.members.members()) == before
    assert keepers.fleet.device("machine-a").groups == ("a", "whole-fleet")

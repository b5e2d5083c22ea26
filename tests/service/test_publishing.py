"""From a change to bundles: only what it touches is compiled anew, and only those whom it concerns are woken."""

from __future__ import annotations

import pytest

from conftest import assignment, group, ruleset, under
from portero.core.nouns.coverage import CoverageRow
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.estate import Correction
from portero.core.nouns.settings import GroupLayers, Settings
from portero.formats.bundles import open_manifest
from portero.service import enrolment
from portero.service.desk import Desk
from portero.store import classes

UNITS = ("a", "b", "c")


@pytest.fixture
def desk(tmp_path):
    made = Desk(tmp_path)
    groups = tuple(group(unit, all=[under(unit)]) for unit in UNITS)
    change(made, "group", groups=groups)
    change(made, "ruleset", rulesets=(ruleset("quiet", music="block"), ruleset("strict", games="block")))
    code = enrolment.make_code(made, NewEnrolmentCode(uses=10), "test").code
    for unit in UNITS:
        assert enrolment.join(made, code, Facts(hostname=f"machine-{unit}", unit=unit))
    change(made, "assignment", assignments=tuple(assignment("quiet", unit).keyed(()) for unit in ("a", "b")))
    yield made
    made.close()


def change(desk: Desk, noun: str, **parts: object) -> None:
    desk.change(lambda estate, _: estate.replacing(**parts), noun=noun, by="test")


def bundles(desk: Desk) -> dict[str, str]:
    """Digest of the bundle of each unit's machines."""
    with desk.store.reading() as connection:
        return {one.groups[0]: one.digest for one in classes.list_classes(connection)}


def touched(desk: Desk, noun: str, **parts: object) -> set[str]:
    """The units whose machines get another bundle by a change; as the revision counts them, too."""
    before = bundles(desk)
    change(desk, noun, **parts)
    after = bundles(desk)
    changed = {unit for unit in after if after[unit] != before.get(unit)}
    with desk.store.reading() as connection:
        counted = connection.execute("SELECT devices FROM revision ORDER BY number DESC LIMIT 1").fetchone()[0]
    assert counted == len(changed)
    return changed


def test_a_ruleset_touches_the_classes_it_is_assigned_to(desk):
    estate = desk.snapshot.estate
    assert touched(desk, "ruleset", rulesets=(ruleset("quiet", music="warn"), estate.rulesets[1])) == {"a", "b"}
    assert (
        touched(desk, "ruleset", rulesets=(desk.snapshot.estate.rulesets[0], ruleset("strict", news="warn"))) == set()
    )


def test_an_assignment_touches_the_groups_it_left_and_those_it_came_to(desk):
    first, second = desk.snapshot.estate.assignments
    moved = first.model_copy(update={"to": ("c",)})
    assert touched(desk, "assignment", assignments=(moved, second)) == {"a", "c"}


def test_layer_modes_touch_their_group_and_settings_touch_all(desk):
    assert touched(desk, "layer modes", layer_modes=(GroupLayers(group="b", filter="off"),)) == {"b"}
    observing = Settings.model_validate({"layers": {"filter": "observing"}})
    assert touched(desk, "settings", settings=observing) == {"a", "c"}
    assert touched(
        desk, "settings", settings=observing.model_copy(update={"gateway_networks": ("192.0.2.0/24",)})
    ) == set(UNITS)


def test_a_correction_touches_all_and_the_coverage_table_nobody(desk):
    assert touched(desk, "correction", corrections=(Correction(host="x.example", categories=("news",)),)) == set(UNITS)
    row = {"control": "filter", "browser": "x", "http": "none", "https": "none", "date": "2026-11-01", "source": "s"}
    assert touched(desk, "coverage row", coverage=(CoverageRow.model_validate(row),)) == set()


def test_an_order_touches_only_those_who_are_in_several_groups(desk):
    assert touched(desk, "precedence", precedence=("c", "b", "a")) == set()


def test_a_change_that_comes_to_nothing_makes_no_revision(desk):
    before = desk.snapshot.revision
    change(desk, "group", groups=desk.snapshot.estate.groups)
    assert desk.snapshot.revision == before


def test_a_change_back_gives_the_same_bundle_under_a_newer_revision(desk):
    before, first = bundles(desk), desk.snapshot.estate.assignments
    change(desk, "assignment", assignments=first[1:])
    assert bundles(desk)["a"] != before["a"]
    change(desk, "assignment", assignments=first)
    assert bundles(desk) == before
    with desk.store.reading() as connection:
        known = next(one for one in classes.list_classes(connection) if one.groups[0] == "a")
        token = connection.execute("SELECT manifest FROM class WHERE id = ?", (known.id,)).fetchone()[0]
    manifest = open_manifest(token, desk.public_key)
    assert (manifest.bundle, manifest.revision) == (before["a"], desk.snapshot.revision)


def test_an_edit_that_fails_leaves_store_and_memory_as_they_were(desk):
    before = (bundles(desk), desk.snapshot.revision, desk.roster.fleet.members())

    def broken(estate, _versions):
        groups = tuple(group(one.key, all=[under("elsewhere")]) for one in estate.groups)
        return estate.replacing(groups=groups, assignments=(assignment("nothing", "a").keyed(()),))

    with pytest.raises(Exception, match="There is no ruleset"):
        desk.change(broken, noun="group", by="test")
    assert (bundles(desk), desk.snapshot.revision, desk.roster.fleet.members()) == before
    assert desk.device("machine-a").groups == ("a", "whole-fleet")

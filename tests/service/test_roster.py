"""The fleet in memory, the store, and a reckoning from scratch say the same, whatever was done in whatever order."""

from __future__ import annotations

import json
import tempfile
from functools import partial
from pathlib import Path

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from conftest import assignment, group, ruleset
from portero.core.insight.readiness import modes_of, obstacles
from portero.core.matching.membership import Membership
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.group import Group
from portero.core.nouns.settings import GroupLayers, Settings
from portero.core.resolving.compiling import compile_bundle
from portero.demo.history import Clock
from portero.service.keepers import open_keepers
from portero.service.roster import member_of
from portero.store import classes, devices, parts
from portero.store.moments import moment
from reading import read_bundle

MORNING = 1_764_576_000.0
"""So far from midnight that the day stays the same."""
HOSTNAMES = st.sampled_from(["alpha", "beta", "gamma"])
UNITS = st.sampled_from(["u/a", "u/b"])
MODES = st.sampled_from(["enforcing", "observing", "off"])
FACTS = st.fixed_dictionaries(
    {"hostname": HOSTNAMES, "unit": UNITS},
    optional={
        "serial": st.sampled_from(["S1", "S2"]),
        "layers": st.fixed_dictionaries({}, optional={"filter": MODES, "browser": MODES}),
        "zone": st.just("Europe/Berlin"),
    },
)
CONDITIONS = st.sampled_from(
    [
        {"field": "unit", "op": "is", "value": "u/a"},
        {"field": "labels.wave", "op": "is", "value": "first"},
        {"field": "lifecycle", "op": "is", "value": "silent"},
        {"field": "layers.filter", "op": "is", "value": "off"},
        {"field": "zone", "op": "like", "value": "*"},
    ]
)
RULES = st.fixed_dictionaries(
    {}, optional={part: st.lists(CONDITIONS, min_size=1, max_size=2) for part in ("all", "none")}
)
PINS = st.fixed_dictionaries(
    {}, optional={where: st.lists(HOSTNAMES, max_size=2, unique=True) for where in ("in", "out")}
)


class Fleet(RuleBasedStateMachine):
    """Everything that can happen to machines and groups."""

    @initialize()
    def open(self) -> None:
        self.folder = tempfile.TemporaryDirectory()
        self.clock = Clock(MORNING)
        self.keepers = open_keepers(Path(self.folder.name), self.clock)
        rules = (ruleset("r0", news="block"),)
        groups = (group("g0", all=[{"field": "unit", "op": "is", "value": "u/a"}]), group("g1"))
        put = assignment("r0", "g0").keyed(())
        self._change(groups=groups)
        self._change(rulesets=rules)
        self._change(assignments=(put,))
        self.code = self.keepers.enrolment.make_code(NewEnrolmentCode(uses=1000), "test").code
        self.known: list[str] = []

    def teardown(self) -> None:
        if hasattr(self, "keepers"):
            self.keepers.close()
            self.folder.cleanup()

    def _change(self, **parts: object) -> None:
        self.keepers.estate.change(lambda snapshot: snapshot.estate.replacing(**parts), by="test")

    def _device(self, number: int):
        return self.keepers.fleet.device(self.known[number % len(self.known)])

    @rule(facts=FACTS)
    def join(self, facts: dict) -> None:
        joined = self.keepers.enrolment.join(self.code, Facts.model_validate(facts))
        assert joined
        self.known.append(joined[0])

    @precondition(lambda self: self.known)
    @rule(number=st.integers(0, 9), facts=FACTS)
    def tell_facts(self, number: int, facts: dict) -> None:
        device = self._device(number)
        if device.lifecycle == "retired":
            return
        told = Facts.model_validate(facts)
        with self.keepers.fleet.assessing() as assessment:
            devices.note_facts(assessment.connection, device.id, told, assessment.now)
            assessment.assess_namesakes(device.hostname)
            assessment.assess_namesakes(told.hostname)
            assessment.assess(device.id)

    @precondition(lambda self: self.known)
    @rule(number=st.integers(0, 9), labels=st.sampled_from([{}, {"wave": "first"}]))
    def label(self, number: int, labels: dict) -> None:
        device = self._device(number)
        if device.lifecycle != "retired":
            self.keepers.enrolment.set_labels(device, labels, "test", None)

    @precondition(lambda self: self.known)
    @rule(number=st.integers(0, 9))
    def retire(self, number: int) -> None:
        device = self._device(number)
        if device.lifecycle != "retired":
            self.keepers.enrolment.retire(device, "test", None)

    @precondition(lambda self: self.known)
    @rule(number=st.integers(0, 9), same=st.booleans())
    def answer_rejoin(self, number: int, same: bool) -> None:
        device = self._device(number)
        if device.rejoin_of and device.lifecycle != "retired":
            self.keepers.enrolment.answer_rejoin(device, same, "test", None)
            if same:
                self.known = [one for one in self.known if one != device.id]

    @rule(key=st.sampled_from(["g0", "g1", "g2"]), members=RULES, pins=PINS)
    def save_group(self, key: str, members: dict, pins: dict) -> None:
        saved = Group.model_validate({"key": key, "members": members or None, "pins": pins or None})
        groups = {group.key: group for group in self.keepers.estate.snapshot.estate.groups} | {key: saved}
        named = {layer_mode.group for layer_mode in self.keepers.estate.snapshot.estate.layer_modes}
        if not any(group.names_layers and group.key in named for group in groups.values()):
            self._change(groups=tuple(groups.values()))

    @rule(order=st.permutations(["g0", "g1"]))
    def reorder(self, order: list[str]) -> None:
        self._change(precedence=tuple(order))

    @rule(mode=MODES)
    def set_estate_mode(self, mode: str) -> None:
        self._change(settings=Settings.model_validate({"layers": {"filter": mode}}))

    @rule(mode=MODES)
    def set_group_mode(self, mode: str) -> None:
        looking = [
            group for group in self.keepers.estate.snapshot.estate.groups if group.key == "g1" and group.names_layers
        ]
        if not looking:
            self._change(layer_modes=(GroupLayers.model_validate({"group": "g1", "filter": mode}),))

    @rule(seconds=st.sampled_from([30, 400]))
    def wait(self, seconds: int) -> None:
        self.clock.at += seconds
        self.keepers.let_time_pass()

    @rule()
    def restart(self) -> None:
        self.keepers.close()
        self.keepers = open_keepers(Path(self.folder.name), self.clock)

    @invariant()
    def store_memory_and_scratch_agree(self) -> None:
        if not hasattr(self, "keepers"):
            return
        estate, now = self.keepers.estate.snapshot.estate, moment(self.clock.at)
        scratch = Membership(estate.groups, estate.group_order)
        with self.keepers.store.reading() as connection:
            by_class = {device_class.id: device_class for device_class in classes.list_classes(connection)}
            rows = devices.member_rows(connection)
            assert len(self.keepers.fleet.members) == len(rows)
            used = set()
            for row in rows:
                member = member_of(row)
                groups = scratch.groups_of(member, now)
                assert self.keepers.fleet.members.groups_of(member.id) == groups
                assert by_class[row["class"]].groups == groups
                used.add(row["class"])
                kept = connection.execute("SELECT code, layer FROM obstacle WHERE device = ?", (member.id,)).fetchall()
                expected = obstacles(member.facts, modes_of(estate, groups), estate.coverage_table)
                assert {tuple(one) for one in kept} == {
                    (obstacle.code.value, obstacle.layer or "") for obstacle in expected
                }
            for id in used:
                packed = classes.get_bundle(connection, by_class[id].digest)
                assert packed
                held = read_bundle(packed, by_class[id].digest, partial(parts.get_part, connection))
                assert held == compile_bundle(estate, by_class[id].groups)
            pinned = json.loads(
                connection.execute(
                    "SELECT json_group_array(hostname) FROM device WHERE keeps_name AND lifecycle <> 'retired'"
                ).fetchone()[0]
            )
            assert len(pinned) == len(set(pinned)), "one machine keeps a hostname"


Fleet.TestCase.settings = settings(max_examples=40, stateful_step_count=25)
TestFleet = Fleet.TestCase

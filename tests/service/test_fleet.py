"""Devices, enrolment, groups and readiness through the client and raw HTTP."""

from __future__ import annotations

import sqlite3
import time
from contextlib import closing

import httpx
import pytest

from conftest import Wire, assignment, group, ruleset, run_async, signed, under
from portero.client import AlreadyExists, ChangedMeanwhile, Invalid, NotFound, Portero, StillInUse
from portero.core.nouns.coverage import CoverageRow
from portero.core.nouns.device import Facts, Kind, NewDevice
from portero.core.nouns.enrolment import Invitations, NewEnrolmentCode
from portero.core.nouns.group import CopiedGroup, Group, Precedence
from portero.core.nouns.settings import GroupLayers, Settings
from portero.demo.history import Clock
from portero.service.app import create_app, with_devices
from portero.service.keepers import open_keepers

pytestmark = pytest.mark.process


@pytest.fixture(autouse=True)
def settled(portero: Portero):
    """Each test leaves settings as they were."""
    yield
    portero.settings.put(Settings(), version=None)
    for modes in portero.layer_modes.list():
        portero.layer_modes.remove(modes.group)


# --- membership follows at once ---


def test_labels_move_a_machine_between_groups_at_once(portero, service):
    wire = Wire(service, portero, "labelled")
    labelled = [{"field": "labels.wave", "op": "is", "value": "first"}]
    portero.groups.create(group("first-wave", all=labelled))
    seen = portero.devices.get("labelled")
    changed = portero.devices.set_labels(wire.id, {"wave": "First"}, version=seen.version, reason="trying")
    assert "first-wave" in changed.groups
    with pytest.raises(ChangedMeanwhile):
        portero.devices.set_labels(wire.id, {}, version=seen.version)
    assert portero.devices.get("labelled").labels == {"wave": "First"}
    event = portero.devices.events(wire.id)[0]
    assert (event.by, event.what, event.reason) == ("keeper", "labels set to wave: First", "trying")
    headers = signed(portero)
    blind = httpx.put(f"{service.url}/api/v1/devices/{wire.id}/labels", json={"labels": {}}, headers=headers)
    assert (blind.status_code, "If-Match" in blind.json()["detail"]) == (428, True)
    portero.devices.set_labels(wire.id, {})
    assert "first-wave" not in portero.devices.get("labelled").groups


def test_pins_beat_the_rule_and_out_beats_in(portero, service):
    Wire(service, portero, "pinned-1", kind="kiosk")
    Wire(service, portero, "pinned-2")
    rule = {"all": [{"field": "hostname", "op": "starts_with", "value": "pinned-"}]}
    pins = {"in": [{"device": "pinned-2", "reason": "asked for"}, "pinned-1"], "out": ["pinned-1", "not-yet-there"]}
    made = portero.groups.create(Group.model_validate({"key": "pinned", "members": rule, "pins": pins}))
    assert {device.hostname for device in portero.devices.list(group="pinned")} == {"pinned-2"}
    assert (made.devices, made.pins.in_[0].reason) == (1, "asked for")
    preview = portero.groups.preview(Group.model_validate({"key": "pinned", "pins": pins}))
    assert preview.unknown_pins == ("not-yet-there",)
    later = Wire(service, portero, "not-yet-there")
    assert "pinned" not in portero.devices.get(later.id).groups


def test_a_preview_says_who_comes_in_who_drops_out_and_what_holds_by_a_missing_fact_only(portero, service):
    Wire(service, portero, "seen-1", unit="brackwater/seen")
    Wire(service, portero, "seen-2", unit="brackwater/seen", zone="Europe/Berlin")
    Wire(service, portero, "seen-3", unit="brackwater/elsewhere")
    portero.groups.create(group("seen", all=[under("brackwater/seen")]))
    zoned = {"field": "zone", "op": "is", "value": "Europe/Berlin"}
    edited = group("seen", all=[{"field": "hostname", "op": "starts_with", "value": "seen-"}], none=[zoned])
    before = portero.revisions.list(limit=1)
    preview = portero.groups.preview(edited)
    assert (preview.devices, preview.comes_in_examples, preview.drops_out_examples) == (2, ("seen-3",), ("seen-2",))
    assert [(one.condition, one.devices) for one in preview.missing] == [("zone is Europe/Berlin", 2)]
    assert next(before).number == next(portero.revisions.list(limit=1)).number, "nothing was kept"
    assert portero.groups.put(edited, version=None).devices == preview.devices


def test_two_administrators_at_one_group_lose_nothing(portero, service):
    made = portero.groups.create(group("contended", all=[under("a")]))
    theirs = portero.groups.put(group("contended", all=[under("b")]), version=made.version)
    with pytest.raises(ChangedMeanwhile) as refused:
        portero.groups.put(group("contended", all=[under("c")]), version=made.version)
    current = refused.value.extra["current"]
    assert current["members"]["all"][0]["value"] == "b"
    assert refused.value.extra["version"] == theirs.version
    assert portero.groups.get("contended").members.all[0].value == "b"


def test_a_copy_stands_behind_its_original_and_removing_says_what_depends(portero):
    portero.groups.create(group("model", all=[under("x")]))
    portero.groups.create(group("after", all=[under("y")]))
    copied = portero.groups.copy("model", CopiedGroup(key="model-2"))
    order = portero.groups.order().precedence
    assert order.index("model-2") == order.index("model") + 1
    assert copied.members.all[0].value == "x"
    with pytest.raises(AlreadyExists):
        portero.groups.copy("model", CopiedGroup(key="after"))
    portero.rulesets.create(ruleset("on-model", news="warn"))
    portero.assignments.create(assignment("on-model", "model"))
    portero.layer_modes.put(GroupLayers(group="model", filter="off"))
    with pytest.raises(StillInUse, match="on-model--model and its layer modes"):
        portero.groups.remove("model")
    portero.groups.remove("model-2")
    assert "model-2" not in portero.groups.order().precedence


def test_another_order_is_previewed_put_in_force_and_guarded(portero, service):
    wire = Wire(service, portero, "ordered", unit="brackwater/ordered")
    for key, action in (("strong", "block"), ("weak", "allow")):
        portero.groups.create(group(key, all=[under("brackwater/ordered")]))
        portero.rulesets.create(ruleset(f"by-{key}", hobbies=action))
        portero.assignments.create(assignment(f"by-{key}", key))
    bundle, _ = wire.sync()
    state = portero.groups.order()
    rest = [key for key in state.precedence if key not in ("strong", "weak")]
    turned = Precedence(precedence=("weak", "strong", *rest))
    preview = portero.preview(lambda asked: asked.groups.put_order(turned, version=None))
    assert [(verdict.subject, verdict.before, verdict.after, verdict.devices) for verdict in preview.verdicts] == [
        ("category hobbies", "block", "allow", 1)
    ]
    portero.groups.put_order(turned, version=state.version)
    assert portero.devices.get(wire.id).groups[:2] == ("weak", "strong")
    after, _ = wire.sync()
    assert after.groups[:2] == ("weak", "strong") != bundle.groups[:2]
    with pytest.raises(ChangedMeanwhile):
        portero.groups.put_order(Precedence(precedence=state.precedence), version=state.version)
    with pytest.raises(Invalid, match="There is no group"):
        portero.groups.put_order(Precedence(precedence=("nobody",)), version=None)


def test_devices_are_found_by_conditions_on_any_fact(portero, service):
    viewer = {"product": "Deckhand Viewer", "version": "4.1"}
    Wire(service, portero, "found-1", os={"family": "linux", "version": "12.1"}, applications=[viewer])
    Wire(service, portero, "found-2", os={"family": "linux", "version": "12.10"}, serial="SN-77")
    named = "hostname starts_with found-"

    def find(*where: str, **more: object) -> list[str]:
        return [device.hostname for device in portero.devices.list(where=[named, *where], **more)]

    assert find("os.version below 12.4") == ["found-1"]
    assert find("applications has product=Deckhand Viewer,version<4.2") == ["found-1"]
    assert find("serial is sn-77") == ["found-2"]
    assert find(sort="serial", descending=True) == ["found-2", "found-1"]
    assert [device.hostname for device in portero.devices.list(search="SN-77")] == ["found-2"]
    with pytest.raises(Invalid, match="there is no fact “colour”"):
        find("colour is red")
    with pytest.raises(Invalid, match="write it as FIELD OP VALUE"):
        find("kiosk")


# --- how machines come and go ---


def test_a_revoked_or_retired_machine_is_refused_at_once(portero, service):
    wire = Wire(service, portero, "shut-out")
    wire.sync()
    portero.devices.revoke(wire.id, reason="Left on a train")
    assert wire.check_in().status_code == 401
    assert "credential-revoked" in portero.devices.get("shut-out").blockers
    again = Wire(service, portero, "leaver")
    again.sync()
    gone = portero.devices.retire(again.id)
    assert (gone.lifecycle, gone.groups, gone.rollout) == ("retired", (), None)
    assert again.check_in().status_code == 401
    assert again.http.get("/wait").status_code == 401
    assert "leaver" not in [device.hostname for device in portero.devices.list()]
    assert [device.hostname for device in portero.devices.list(lifecycle="retired")] == ["leaver"]
    with pytest.raises(StillInUse):
        portero.devices.retire(again.id)


def test_a_machine_recognised_by_its_serial_takes_up_history_labels_and_pins_when_confirmed(portero, service):
    old = Wire(service, portero, "phoenix", serial="SN-1")
    old.sync()
    report = {"seq": 1, "at": "2026-11-01T10:00:00Z", "url": "http://x.example/", "host": "x.example"}
    old.http.post("/activity", json={"batch": 1, "attempts": [{**report, "verdict": "block"}]})
    portero.devices.set_labels(old.id, {"wave": "first"})
    portero.groups.create(Group.model_validate({"key": "by-hand", "pins": {"in": ["phoenix"]}}))
    new = Wire(service, portero, "phoenix", serial="SN-1")
    seen = portero.devices.get(new.id)
    assert (seen.rejoin_of, "by-hand" in seen.groups) == (old.id, False)
    assert {"rejoin-waiting", "duplicate-hostname"} <= set(seen.blockers)
    new.http.post("/activity", json={"batch": 1, "attempts": [{**report, "verdict": "warn"}]})

    kept = portero.devices.confirm_rejoin(new.id)
    assert (kept.id, kept.labels, "by-hand" in kept.groups, kept.rejoin_of) == (old.id, {"wave": "first"}, True, None)
    with pytest.raises(NotFound):
        portero.devices.get(new.id)
    new.http.post("/activity", json={"batch": 2, "attempts": [{**report, "seq": 2, "verdict": "block"}]})
    answer = new.http.post("/activity", json={"batch": 2, "attempts": [{**report, "seq": 2, "verdict": "block"}]})
    assert answer.json()["new"] == 0
    assert sorted(one.verdict for one in portero.activity.list(device=old.id)) == ["block", "block", "warn"]
    assert old.check_in().status_code == 401, "the credential of before is no good"
    assert new.check_in().status_code == 200


def test_a_machine_kept_apart_stays_a_device_of_its_own(portero, service):
    first, second = (Wire(service, portero, f"twin-{n}", serial="SN-2") for n in (1, 2))
    assert portero.devices.get(second.id).rejoin_of == first.id
    apart = portero.devices.keep_apart(second.id)
    assert (apart.id, apart.rejoin_of) == (second.id, None)
    with pytest.raises(StillInUse, match="waits for no decision"):
        portero.devices.confirm_rejoin(second.id)


def test_the_machine_that_had_a_hostname_first_keeps_it_until_it_goes(portero, service):
    first, second = Wire(service, portero, "namesake"), Wire(service, portero, "namesake")
    portero.groups.create(Group.model_validate({"key": "named", "pins": {"in": ["namesake"]}}))
    held = {device.id for device in portero.devices.list(group="named")}
    assert held == {first.id}
    answer = httpx.get(service.url + "/api/v1/devices/namesake", headers=signed(portero))
    assert (answer.status_code, answer.json()["title"]) == (409, "More than one device")
    portero.devices.retire(first.id)
    assert {device.id for device in portero.devices.list(group="named")} == {second.id}
    assert "duplicate-hostname" not in portero.devices.get("namesake").blockers


def test_codes_are_listed_without_themselves_and_can_be_taken_back(portero, service):
    made = portero.enrolment.create_code(NewEnrolmentCode(name="the third wave", uses=2))
    listed = next(code for code in portero.enrolment.codes() if code.id == made.id)
    assert (listed.name, listed.uses_left, listed.state) == ("the third wave", 2, "good")
    assert made.code not in listed.model_dump_json()
    join = {"code": made.code, "facts": {"hostname": "third-1"}}
    assert httpx.post(service.url + "/device/v1/join", json=join).status_code == 201
    portero.enrolment.revoke_code(made.id)
    assert httpx.post(service.url + "/device/v1/join", json=join).status_code == 403
    listed = next(code for code in portero.enrolment.codes() if code.id == made.id)
    assert (listed.uses_left, listed.state) == (1, "revoked")
    with pytest.raises(NotFound):
        portero.enrolment.revoke_code("nothing")
    page = httpx.post(service.url + "/join/check", json={"code": made.code})
    assert (page.status_code, "is revoked" in page.json()["detail"]) == (404, True)


def test_an_invited_machine_takes_up_its_record_and_its_code_is_nobody_elses(portero, service):
    new = NewDevice(hostname="guest-1", unit="brackwater/office", serial="G-1", labels={"wave": "second"})
    portero.groups.create(group("guests", all=[{"field": "lifecycle", "op": "is", "value": "invited"}]))
    (invitation,) = portero.enrolment.invite(Invitations(devices=(new,))).invitations
    seen = portero.devices.get("guest-1")
    assert (seen.lifecycle, seen.rollout, seen.blockers, "guests" in seen.groups) == (
        "invited",
        None,
        ("never-joined",),
        True,
    )
    told = httpx.post(service.url + "/join/check", json={"code": invitation.code}).json()
    assert "good for guest-1 until" in told["sentence"]
    stranger = {"code": invitation.code, "facts": {"hostname": "guest-1", "serial": "OTHER"}}
    answer = httpx.post(service.url + "/device/v1/join", json=stranger)
    assert (answer.status_code, "invites another machine" in answer.json()["detail"]) == (403, True)
    join = {"code": invitation.code, "facts": {"hostname": "guest-one", "serial": "G-1"}}
    joined = httpx.post(service.url + "/device/v1/join", json=join).json()
    assert joined["device"] == invitation.device
    after = portero.devices.get(invitation.device)
    assert (after.hostname, after.lifecycle, after.labels, "guests" in after.groups) == (
        "guest-one",
        "enrolled",
        {"wave": "second"},
        False,
    )


def test_a_list_is_taken_whole_or_not_at_all_and_each_bad_line_is_told(portero, service):
    Wire(service, portero, "here-already")
    heading = "hostname,kind,unit,serial,labels.wave\n"
    lines = ["till-1,other,brackwater/t,T-1,x", "a b,other,,,", "till-2,oven,,,", "here-already,,,,", "till-1,,,,"]
    bad = (heading + "\n".join(lines)).encode()
    with pytest.raises(Invalid) as refused:
        portero.enrolment.invite_csv(bad, codes=False)
    told = {error["pointer"]: error["detail"] for error in refused.value.errors}
    assert "/3/hostname" in told
    assert "laptop, kiosk" in told["/4/kind"]
    assert not list(portero.devices.list(search="till-"))
    clashing = (heading + "\n".join([lines[0], lines[3], lines[4]])).encode()
    with pytest.raises(Invalid) as refused:
        portero.enrolment.invite_csv(clashing, codes=False)
    assert {error["pointer"] for error in refused.value.errors} == {"/3/hostname", "/4/hostname"}
    assert not list(portero.devices.list(search="till-"))
    made = portero.enrolment.invite_csv((heading + lines[0]).encode(), codes=False)
    assert [(invitation.hostname, invitation.code) for invitation in made.invitations] == [("till-1", None)]
    assert portero.devices.get("till-1").labels == {"wave": "x"}
    for nonsense in (b"", b"name\nx\n", b"hostname\n\xff\n", b'hostname\n"x', b"hostname\nx,y\n"):
        with pytest.raises(Invalid):
            portero.enrolment.invite_csv(nonsense)


@pytest.mark.parametrize(
    "facts",
    [
        {"hostname": ""},
        {"hostname": "x" * 300},
        {"hostname": "x", "kind": "oven"},
        {"hostname": "x", "unit": "a//b"},
        {"hostname": "x", "os": "linux"},
        {"hostname": "x", "os": {"version": "12"}},
        {"hostname": "x", "addresses": ["300.1.1.1"]},
        {"hostname": "x", "addresses": ["192.0.2.1"] * 33},
        {"hostname": "x", "browsers": [{"version": "1"}]},
        {"hostname": "x", "applications": [{"sha256": "beef"}]},
        {"hostname": "x", "layers": {"filter": "maybe"}},
        {"hostname": "x", "layer_versions": {"filter": 2}},
        {"hostname": "x", "place": "at sea"},
        {"hostname": "x", "zone": "Nowhere/Town"},
        {"hostname": "x", "last_start": "yesterday"},
        {"hostname": "x", "last_start": "2026-12-01T06:00:00"},
        {"hostname": "x", "serial": "s" * 300},
        {"hostname": "x", "labels": {"own": "no"}},
        {"hostname": ["x"]},
        {},
    ],
)
def test_malformed_facts_are_told_and_nothing_joins(portero, service, facts):
    made = portero.enrolment.create_code(NewEnrolmentCode())
    answer = httpx.post(service.url + "/device/v1/join", json={"code": made.code, "facts": facts})
    assert answer.status_code == 422, answer.text
    assert answer.json()["errors"][0]["pointer"].startswith("/facts")
    assert next(code for code in portero.enrolment.codes() if code.id == made.id).uses_left == 1


# --- layers and readiness ---


def test_modes_reach_the_machine_in_its_bundle_and_are_compared_with_what_it_reports(portero, service):
    portero.groups.create(group("watched", all=[under("brackwater/watched")]))
    portero.rulesets.create(ruleset("watched", gambling="block"))
    portero.assignments.create(assignment("watched", "watched"))
    wire = Wire(service, portero, "watched-1", unit="brackwater/watched", layers={"filter": "enforcing"})
    bundle, _ = wire.sync()
    assert bundle.layers["filter"] == "enforcing"
    modes = GroupLayers(group="watched", filter="observing")
    portero.layer_modes.put(modes, reason="a trial")
    bundle, _ = wire.sync()
    assert bundle.layers["filter"] == "observing"
    with pytest.raises(Invalid, match="There is no group"):
        portero.layer_modes.put(GroupLayers(group="wachted", filter="off"))
    layer = portero.devices.readiness("watched-1").layers[0]
    assert (layer.meant, layer.meant_by, layer.reported) == ("observing", "watched", "enforcing")
    assert next(portero.revisions.list(limit=1)).summary == "Created layer modes watched"


def test_readiness_counts_each_machine_once_where_it_is_lost(portero, service):
    unit = "brackwater/counted"
    full = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}
    zone = {"zone": "Europe/Berlin"}
    Wire(service, portero, "count-1", unit=unit, layers=full, **zone)
    Wire(service, portero, "count-2", unit=unit, layers={**full, "filter": "off"}, **zone)
    Wire(service, portero, "count-3", unit=unit, layers={**full, "filter": "observing"})
    Wire(service, portero, "count-4", unit=unit, layers=full, browsers=[{"name": "gullwing"}], **zone)
    portero.devices.revoke(Wire(service, portero, "count-5", unit=unit, layers=full, **zone).id)
    portero.enrolment.invite(Invitations(devices=(NewDevice(hostname="count-6", unit=unit),), codes=False))
    found = portero.readiness.fleet(unit=unit)
    assert (found.devices, found.uncovered) == (6, 1)
    filter = found.layers[0]
    lost = {one.code.value: one.devices for one in filter.lost}
    assert (filter.meant, filter.enforcing) == (6, 2)
    assert lost == {"never-joined": 1, "credential-revoked": 1, "layer-off": 1, "layer-observing": 1}
    browser = found.layers[1]
    assert (browser.enforcing, {one.code.value for one in browser.lost}) == (
        3,
        {"never-joined", "credential-revoked", "browser-unmanaged"},
    )
    assert "2 of 6 enforce the filter; 1 never joined; 1 was shut out; 1 has it off; 1 only records." in found.sentence
    for blocker in found.blockers:
        listed = list(portero.devices.list(unit=unit, blocker=blocker.code.value, layer=blocker.layer))
        assert len(listed) == blocker.devices, blocker
        if blocker.group_rule and blocker.code != "zone-missing":
            made = portero.groups.preview(Group(key="caught", members=blocker.group_rule))
            assert made.devices >= blocker.devices
    assert [(one.unit, one.devices) for one in portero.readiness.units(unit)] == []
    by_unit = {one.unit: one for one in portero.readiness.units("brackwater")}
    assert unit in by_unit
    for one in by_unit.values():
        alone = portero.readiness.fleet(unit=one.unit)
        enforcing = {layer.layer: layer.enforcing for layer in alone.layers}
        assert (one.devices, one.uncovered, one.enforcing) == (alone.devices, alone.uncovered, enforcing)


def test_a_machine_that_reports_better_is_counted_better_at_once(portero, service):
    unit = "brackwater/mended"
    wire = Wire(service, portero, "mended-1", unit=unit, layers={"filter": "off"})
    assert portero.readiness.fleet(unit=unit).layers[0].enforcing == 0
    wire.check_in(facts={**wire.facts, "layers": {"filter": "enforcing"}})
    assert portero.readiness.fleet(unit=unit).layers[0].enforcing == 1
    portero.settings.put(Settings.model_validate({"layers": {"filter": "off"}}), version=None)
    layer = portero.readiness.fleet(unit=unit).layers[0]
    assert (layer.meant, layer.not_meant) == (0, 1)


def test_the_coverage_table_is_edited_guarded_and_put_back(portero, service):
    row = CoverageRow(
        control="site-list", browser="gullwing", http="page", https="page", date="2026-11-20", source="tried"
    )
    made = portero.coverage.put(row)
    assert (made.shipped, made.browser) == (False, "gullwing")
    wire = Wire(
        service, portero, "gulls", browsers=[{"name": "Gullwing", "managed": True}], layers={"browser": "enforcing"}
    )
    assert "browser-unmanaged" not in portero.devices.get(wire.id).blockers
    with pytest.raises(ChangedMeanwhile):
        portero.coverage.put(row, version=1)
    portero.coverage.remove("site-list/gullwing/any")
    assert "browser-unmanaged" in portero.devices.get(wire.id).blockers
    with pytest.raises(NotFound, match="as shipped, and stays"):
        portero.coverage.remove("filter/chromium/any")


def test_time_alone_makes_a_machine_silent_and_puts_it_into_the_groups_that_ask_for_it(portero, service, tmp_path):
    # a keepers of its own, with a clock that the test moves
    clock = Clock(time.time())
    keepers = open_keepers(tmp_path, clock)
    groups = (
        group("lost", all=[{"field": "lifecycle", "op": "is", "value": "silent"}]),
        group("dusty", all=[{"field": "last_start", "op": "older_than", "value": "P30D"}]),
    )
    keepers.estate.change(lambda snapshot: snapshot.estate.replacing(groups=groups), by="test")
    code = keepers.enrolment.make_code(NewEnrolmentCode(), "test").code
    started = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(clock.at - 86_400))
    joined = keepers.enrolment.join(code, Facts.model_validate({"hostname": "ages", "last_start": started}))
    assert joined is not None
    assert keepers.fleet.device("ages").groups == ("unclaimed", "whole-fleet")
    clock.at += 600
    keepers.let_time_pass()
    assert (keepers.fleet.device("ages").lifecycle, keepers.fleet.device("ages").groups[0]) == ("silent", "lost")
    clock.at += 29 * 86_400
    keepers.let_time_pass()
    assert keepers.fleet.device("ages").groups == ("lost", "dusty", "whole-fleet")

    async def check_in() -> int:
        transport = httpx.ASGITransport(with_devices(create_app(keepers)))
        async with httpx.AsyncClient(transport=transport, base_url="http://service.test") as http:
            headers = {"Authorization": "Bearer " + joined[1]}
            return (await http.post("/device/v1/check-in", json={}, headers=headers)).status_code

    assert run_async(check_in()) == 200
    assert (keepers.fleet.device("ages").lifecycle, keepers.fleet.device("ages").groups[0]) == ("enrolled", "dusty")
    keepers.close()
    with closing(sqlite3.connect(tmp_path / "portero.sqlite3")) as store:
        assert store.execute("SELECT recheck_at FROM device").fetchone() == (None,)


def test_the_roll_out_is_counted_of_the_machines_that_filters_leave(portero):
    every = portero.devices.rollout()
    by_kind = [portero.devices.rollout(kind=kind.value) for kind in Kind]
    for state in ("current", "waiting", "failed", "silent"):
        assert sum(getattr(counts, state) for counts in by_kind) == getattr(every, state)
    assert portero.devices.rollout(search="no machine is called that").current == 0
    assert portero.devices.rollout(where=["kind is laptop"]) == portero.devices.rollout(kind="laptop")

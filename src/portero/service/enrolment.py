"""How machines become devices and cease to be: codes, invitations, joining, rejoining, retiring."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from uuid import uuid4

from portero.core import wording
from portero.core.nouns.device import Device, Facts, Lifecycle, NewDevice
from portero.core.nouns.enrolment import (
    EnrolmentCode,
    Invitation,
    Invitations,
    Invited,
    NewEnrolmentCode,
)
from portero.formats.device_list import read_device_list
from portero.formats.places import BadDocument
from portero.service.fleet import FleetKeeper
from portero.service.live import Live
from portero.service.problems import Refusal, field_error
from portero.service.roster import Assessment
from portero.service.secrets import hash_secret, new_code, new_secret
from portero.store import devices, enrolment_codes
from portero.store.database import Store
from portero.store.enrolment_codes import UsedCode
from portero.store.moments import moment

HOUR = 3600.0


class EnrolmentKeeper:
    """How machines come into the fleet, and what administrators do to single ones."""

    def __init__(self, store: Store, fleet: FleetKeeper, live: Live, clock: Callable[[], float]) -> None:
        self._store, self._fleet, self._live, self._now = store, fleet, live, clock

    def make_code(self, new: NewEnrolmentCode, by: str) -> EnrolmentCode:
        """A code by which devices join. It is told this once."""
        code, now = new_code(), self._now()
        id, expires = str(uuid4()), now + new.hours * HOUR
        with self._store.writing() as connection:
            enrolment_codes.add_enrolment_code(
                connection,
                id=id,
                code_hash=hash_secret(code),
                name=new.name,
                labels=new.labels,
                uses=new.uses,
                expires=expires,
                by=by,
                now=now,
            )
        return EnrolmentCode.model_validate({"id": id, "code": code, "uses": new.uses, "expires_at": moment(expires)})

    # --- machines that are known before they join ---

    def invite(self, wanted: Invitations, by: str) -> Invited:
        """Record machines, each with a code of its own if wanted; all of them or none. Refusal names each bad one."""
        with self._fleet.assessing() as assessment:
            _refuse_known(assessment, wanted.devices)
            made = [_invite_one(assessment, new, wanted, by) for new in wanted.devices]
            for new in wanted.devices:
                assessment.assess_namesakes(new.hostname)
        self._live.tell("device")
        return Invited(invitations=tuple(made))

    def invite_list(self, data: bytes, hours: int, codes: bool, by: str) -> Invited:
        """The same from a list as CSV. Refusal with the number of each bad line."""
        try:
            lines = read_device_list(data)
        except BadDocument as problem:
            errors = [field_error([fault.line, *fault.path], fault.message) for fault in problem.problems[:200]]
            count = wording.counted(len(problem.problems), "line")
            raise Refusal("invalid", f"{count} cannot be taken, so none was; see errors.", errors=errors) from problem
        wanted = Invitations(devices=tuple(new for _, new in lines), hours=hours, codes=codes)
        try:
            return self.invite(wanted, by)
        except Refusal as problem:
            # errors point at the list's lines, not at the places in a JSON body
            for error in problem.errors:
                _, _, place, field = error["pointer"].split("/")
                error["pointer"] = f"/{lines[int(place)][0]}/{field}"
            raise

    # --- joining ---

    def join(self, code: str, facts: Facts) -> tuple[str, str] | None:
        """A machine joins: its id and its credential; None where the code is not good (any more).

        A machine that was invited or recorded takes up that record. One whose serial joined before becomes a device of
        its own, until an administrator confirms that it is the same machine.
        """
        credential = new_secret("pd")
        with self._fleet.assessing() as assessment:
            used = enrolment_codes.use_enrolment_code(
                assessment.connection, hash_secret(code.strip().upper()), assessment.now
            )
            if used is None:
                return None
            device = _take_in(assessment, used, facts)
            devices.note_joined(assessment.connection, device, facts, hash_secret(credential), assessment.now)
            assessment.assess_namesakes(facts.hostname)
            assessment.assess(device)
        self._live.tell("device")
        return device, credential

    # --- what administrators do to one device ---

    def set_labels(self, device: Device, labels: dict[str, str], by: str, reason: str | None) -> None:
        """Put other labels on a device as it was seen. Refusal where somebody changed it meanwhile."""
        with self._fleet.assessing() as assessment:
            if not devices.set_labels(assessment.connection, device.id, labels, device.version, assessment.now):
                raise Refusal(
                    "changed-meanwhile", f"Somebody else has just changed {device.hostname}; look at it again."
                )
            words = wording.joined([f"{name}: {value}" for name, value in labels.items()]) or "none"
            devices.note_event(assessment.connection, device.id, assessment.now, by, f"labels set to {words}", reason)
            assessment.assess(device.id)
        self._live.tell("device")

    def retire(self, device: Device, by: str, reason: str | None) -> None:
        """Take a device out of the fleet; its credential is refused at once, its history stays."""
        if device.lifecycle is Lifecycle.RETIRED:
            raise Refusal("in-use", f"{device.hostname} is retired already.")
        with self._fleet.assessing() as assessment:
            devices.retire(assessment.connection, device.id, assessment.now)
            devices.note_event(assessment.connection, device.id, assessment.now, by, "retired", reason)
            assessment.assess(device.id)
            assessment.assess_namesakes(device.hostname)
        self._live.tell("device")

    def revoke_credential(self, device: Device, by: str, reason: str | None) -> None:
        """Shut a device out: it is refused at once, and goes on with its last good bundle until it joins again."""
        _expect_joined(device)
        with self._fleet.assessing() as assessment:
            devices.revoke_credential(assessment.connection, device.id)
            devices.note_event(assessment.connection, device.id, assessment.now, by, "credential revoked", reason)
        self._live.tell("device")

    def answer_rejoin(self, device: Device, same: bool, by: str, reason: str | None) -> str:
        """Say whether a device is the one with the same serial that joined before; the id by which it is known then."""
        old = device.rejoin_of
        with self._fleet.assessing() as assessment:
            connection, now = assessment.connection, assessment.now
            if old is None or not devices.waits_to_be(connection, device.id, old):
                raise Refusal("in-use", f"{device.hostname} waits for no decision: its serial is nobody else's.")
            if same:
                devices.take_up(connection, old, device.id, now)
                devices.note_event(connection, old, now, by, "recognised after joining again", reason)
                assessment.assess(device.id)  # is there no more
                assessment.assess_namesakes(device.hostname)
                assessment.assess(old)
            else:
                devices.set_rejoin(connection, device.id, None)
                devices.note_event(
                    connection, device.id, now, by, "kept apart from the machine of the same serial", reason
                )
        self._live.tell("device")
        return old if same else device.id


def _facts_of(new: NewDevice) -> Facts:
    return Facts(hostname=new.hostname, kind=new.kind, unit=new.unit, serial=new.serial, os=new.os)


def _refuse_known(assessment: Assessment, wanted: Sequence[NewDevice]) -> None:
    errors, names, serials = [], dict[str, int](), dict[str, int]()
    for number, new in enumerate(wanted):
        where: list[str | int] = ["devices", number]
        first = names.setdefault(new.hostname, number)
        if first != number:
            errors.append(field_error([*where, "hostname"], f"“{new.hostname}” stands twice, first in row {first + 1}"))
        elif devices.namesakes(assessment.connection, new.hostname):
            errors.append(field_error([*where, "hostname"], f"there is a machine “{new.hostname}” already"))
        if new.serial and serials.setdefault(new.serial, number) != number:
            errors.append(field_error([*where, "serial"], f"serial “{new.serial}” stands twice"))
        elif new.serial and devices.is_known_serial(assessment.connection, new.serial):
            errors.append(field_error([*where, "serial"], f"there is a machine with serial “{new.serial}” already"))
    if errors:
        count = wording.counted(len(errors), "row")
        raise Refusal("invalid", f"{count} cannot be taken, so none was; see errors.", errors=errors)


def _invite_one(assessment: Assessment, new: NewDevice, wanted: Invitations, by: str) -> Invitation:
    connection, now = assessment.connection, assessment.now
    device = str(uuid4())
    devices.add_device(connection, device, _facts_of(new), new.labels, now)
    code, expires = None, None
    if wanted.codes:
        code, expires = new_code(), now + wanted.hours * HOUR
        enrolment_codes.add_enrolment_code(
            connection,
            id=str(uuid4()),
            code_hash=hash_secret(code),
            name=None,
            labels={},
            uses=1,
            expires=expires,
            by=by,
            now=now,
            device=device,
        )
    devices.note_event(connection, device, now, by, "invited" if wanted.codes else "recorded, without an invitation")
    assessment.assess(device)
    return Invitation(hostname=new.hostname, device=device, code=code, expires_at=moment(expires))


def _take_in(assessment: Assessment, used: UsedCode, facts: Facts) -> str:
    """The device that joins: one that is recorded already, or a new one. Refusal where the code is another's."""
    connection, now = assessment.connection, assessment.now
    if used.device is not None:
        _refuse_foreign(assessment, used.device, facts)
        devices.note_event(connection, used.device, now, used.made_by, "joined by its invitation")
        return used.device
    known = devices.invited_as(connection, facts.hostname, facts.serial)
    if known is not None:
        devices.note_event(connection, known, now, used.made_by, "joined, and was recognised as recorded")
        devices.add_labels(connection, known, used.labels, now)
        return known
    device = str(uuid4())
    before = devices.known_by_serial(connection, facts.serial) if facts.serial else None
    devices.add_device(connection, device, facts, used.labels, now)
    if before is not None:
        devices.set_rejoin(connection, device, before)
    what = "joined, with the serial of a machine that joined before" if before else "joined"
    devices.note_event(connection, device, now, used.made_by, what)
    return device


def _refuse_foreign(assessment: Assessment, device: str, facts: Facts) -> None:
    """An invitation is for one machine: the serial decides where it was given, else the hostname."""
    row = devices.member_rows(assessment.connection, device)[0]
    invited = Facts.model_validate_json(row["document"])
    same = invited.serial == facts.serial if invited.serial else invited.hostname == facts.hostname
    if not same:
        raise Refusal("not-allowed", f"This code invites another machine, {invited.hostname}; ask for one of your own.")


def _expect_joined(device: Device) -> None:
    if device.lifecycle in (Lifecycle.INVITED, Lifecycle.RETIRED):
        raise Refusal("in-use", f"{device.hostname} is {device.lifecycle}; it has no credential.")

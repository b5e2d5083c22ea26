"""What happened at Brackwater Ferries before the demo starts: people, policies, and machines that joined long ago."""

from __future__ import annotations

import json
import shutil
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import partial
from importlib import resources
from pathlib import Path
from typing import Any

from portero.core.insight import restrictions
from portero.core.insight.quick_words import Known
from portero.core.nouns.administrator import NewAdministrator
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.device import Facts, NewDevice
from portero.core.nouns.enrolment import Invitations, NewEnrolmentCode
from portero.core.nouns.estate import Estate
from portero.core.nouns.feed import Feed
from portero.core.nouns.restriction import NewRestriction
from portero.core.nouns.ruleset import Ruleset
from portero.demo.feeds import brackwater_feeds, bundle, list_of
from portero.demo.people_and_machines import INVITED, LOST, RECORDED, Old, old_machines
from portero.demo.programs import KNOWN_FOR_DAYS, known_before
from portero.endpoint.folder import Folder, Identity
from portero.formats.estate_document import read_directory, read_estate
from portero.formats.owned_files import make_owned, write_owned
from portero.service.feeds.polling import BY_SCHEDULE
from portero.service.keepers import Keepers, open_keepers
from portero.service.passwords import hash_password
from portero.service.secrets import hash_secret
from portero.service.state import Snapshot
from portero.store import administrators, audit, catalogue, devices
from portero.store.moments import moment

ADMINISTRATOR, PASSWORD = "it-desk", "brackwater-demo"
ADMINISTRATORS = (
    NewAdministrator(name=ADMINISTRATOR, role="keeper", sees_names=True, probes_freely=True),
    NewAdministrator(name="policy-desk", role="author", sees_names=True, note="Category rulesets and exceptions"),
    NewAdministrator(name="help-desk", role="responder", sees_names=True, note="Answers crews and terminals"),
    NewAdministrator(name="auditor", role="reader", sees_names=True, note="Internal audit, twice a year"),
    NewAdministrator(name="staff-council", role="reader", note="Sees what is stopped, and not for whom"),
)
HISTORY_DAYS = 26
CODE_HOURS = 24 * 90
LONG_LIST = 1_620
"""So many sites the longest list has: more than Chromium takes."""
FEEDS = 4
"""How far the port of the feeds' stand-in is from the service's."""
MARK = "demo.json"
"""The file that marks a folder as a demo's; it holds the enrolment code once the demo is complete."""


class DemoProblem(RuntimeError):
    """The demo cannot run; the message says why and what to do."""


@dataclass
class Clock:
    """A clock that stands where it is put: what the demo's administrators did lies in the past."""

    at: float

    def __call__(self) -> float:
        return self.at


def brackwater(name: str) -> bytes:
    """A document of the demo."""
    return (resources.files("portero.demo") / name).read_bytes()


def machine_folder(folder: Path, hostname: str) -> Path:
    """Where a machine of the demo keeps what is its own."""
    return folder / "machines" / hostname


def load(folder: Path, service: str = "http://127.0.0.1:8642") -> str:
    """Make the demo's store where there is none; returns the enrolment code of its machines. DemoProblem."""
    kept = folder / MARK
    if kept.exists():
        code = json.loads(kept.read_text()).get("code")
        if code:
            return str(code)
        shutil.rmtree(folder)  # its making was cut off
    elif folder.exists() and any(folder.iterdir()):
        raise DemoProblem(f"{folder} is not empty and holds no demo; name another folder with --data")
    make_owned(folder)
    _write_mark(kept, {})
    clock = Clock(time.time() - HISTORY_DAYS * 86_400)
    keepers = open_keepers(folder, clock)
    try:
        _load_administrators(keepers)
        keepers.people.put(read_directory(brackwater("people.yaml")), ADMINISTRATOR, lambda _none_yet: None)
        _live_through(keepers, clock, service)
        clock.at = time.time()
        _load_guests(keepers)
        _begin_lesson(keepers)
        new = NewEnrolmentCode(name="the whole fleet", uses=1000, hours=CODE_HOURS)
        code = keepers.enrolment.make_code(new, ADMINISTRATOR).code
    finally:
        keepers.close()
    _write_mark(kept, {"code": code})
    return code


def _write_mark(path: Path, content: dict[str, str]) -> None:
    write_owned(path, json.dumps(content).encode())


def _load_administrators(keepers: Keepers) -> None:
    password_hash, now = hash_password(PASSWORD), keepers.now()
    with keepers.store.writing() as connection:
        for new in ADMINISTRATORS:
            administrators.add(connection, new.name, new, password_hash, now)
            told = f"{new.name}: {new.role}, with a password that all know"
            audit.append(connection, "createAdministrator", now, means="machine", means_id="demo", detail=told)


Step = tuple[float, Callable[[], object]]
"""When something was done, and what."""


def _live_through(keepers: Keepers, clock: Clock, service: str) -> None:
    """All that was done before today, in the order of time."""
    steps = sorted(
        [*_policy_steps(keepers, clock.at), *_feed_steps(keepers, service), *_machine_steps(keepers, service)],
        key=lambda step: step[0],
    )
    for at, do in steps:
        clock.at, before = at, keepers.estate.snapshot.revision
        do()
        if (now := keepers.estate.snapshot.revision) > before:
            told = {"by": ADMINISTRATOR, "role": "keeper", "about": "/estate", "detail": f"revision {now}"}
            with keepers.store.writing() as connection:
                audit.append(connection, "putEstate", at, **told)


def _feed_steps(keepers: Keepers, service: str) -> Iterator[Step]:
    """Feeds, configured weeks ago, and what they brought on two days since; indicators are counted each day."""
    now = time.time()
    host, port = service.rsplit(":", 1)
    configured = brackwater_feeds(f"{host}:{int(port) + FEEDS}")
    yield (
        now - 24.5 * 86_400,
        lambda: keepers.estate.change(
            lambda snapshot: snapshot.estate.replacing(feeds=configured),
            by=ADMINISTRATOR,
            reason="Content that is kept up by others",
        ),
    )
    for days in (24, 3):
        for number, feed in enumerate(configured):
            yield now - days * 86_400 + number * 60, partial(_read, keepers, feed)
    for days in range(24, 0, -1):
        yield now - days * 86_400 + 3600, keepers.indicators.count


def _read(keepers: Keepers, feed: Feed) -> None:
    """What a feed brought on the day of the clock."""
    day = moment(keepers.now()).date()
    data = bundle(day) if feed.format == "taxii" else list_of("/" + str(feed.address).rsplit("/", 1)[1], day)
    file = keepers.holdings.artefacts.begin()
    file.write_bytes(data)
    reading = keepers.feeds.read_file(feed, BY_SCHEDULE, file, str(feed.address), review=False)
    assert reading is not None
    reading.result()
    if feed.review:
        keepers.feeds.take(feed)


def _policy_steps(keepers: Keepers, begin: float) -> Iterator[Step]:
    """The estate document, put in force in the steps in which an administrator would have made it, over some weeks."""
    document = _with_long_list(_dated(read_estate(brackwater("brackwater.yaml"))))
    steps: list[tuple[str, dict[str, Any]]] = [
        ("The fleet as it stands", {"groups": document.groups, "precedence": document.precedence}),
        ("", {"settings": document.settings.model_copy(update={"gate": ()}), "layer_modes": document.layer_modes}),
        ("A browser that nobody manages", {"coverage": document.coverage}),
        ("Our own hosts", {"corrections": document.corrections}),
        ("", {"schedules": document.schedules}),
        ("What programs are for here", {"application_corrections": document.application_corrections}),
        ("", {"application_sets": document.application_sets}),
        ("The ports' pages, for kiosks and desks alike", {"address_lists": document.address_lists}),
        ("Reviewed with finance", {"services": document.services}),
        ("", {"notices": document.notices}),
        ("", {"probe_sets": document.probe_sets}),
    ]
    for number, ruleset in enumerate(document.rulesets, start=1):
        steps.append(("", {"rulesets": document.rulesets[:number]}))
        own = tuple(assignment for assignment in document.assignments if assignment.ruleset == ruleset.key)
        reason = own[0].reason if own else None
        taken = tuple(
            assignment
            for assignment in document.assignments
            if assignment.ruleset in {r.key for r in document.rulesets[:number]}
        )
        steps.append((reason or "", {"assignments": taken}))
    steps.append(("From now on tickets are sold whatever is changed", {"settings": document.settings}))
    pause = (time.time() - begin) / (len(steps) + 1)
    for number, (reason, parts) in enumerate(steps, start=1):

        def edit(snapshot: Snapshot, parts: dict[str, Any] = parts) -> Estate:
            return snapshot.estate.replacing(**parts)

        yield begin + number * pause, partial(keepers.estate.change, edit, by=ADMINISTRATOR, reason=reason or None)


def _dated(document: Estate) -> Estate:
    """The estate with its exceptions around today: one is over, one ends this week, one in a while; and what is held
    back came two days ago.
    """
    now = datetime.now(UTC).replace(minute=0, second=0, microsecond=0)
    days = {"audit-drop--spring": -5, "audit-drop--finance": 3, "desk-favourites--training": 40}
    ends = {key: now + timedelta(days=number) for key, number in days.items()}

    def dated(one: Assignment) -> Assignment:
        came = tuple(late.model_copy(update={"at": now - timedelta(days=2)}) for late in one.came)
        return one.model_copy(update={"ends": ends.get(one.key, one.ends), "came": came})

    assignments = tuple(map(dated, document.assignments))
    return document.replacing(assignments=assignments)


def _with_long_list(document: Estate) -> Estate:
    """The estate with a site list that is longer than any browser takes, for the training room."""
    hosts = [f"giveaway-{number:04}.example" for number in range(1, LONG_LIST + 1)]
    rules = [{"pattern": host, "action": "block"} for host in hosts]
    long = {"key": "giveaways", "name": "Giveaways, as a partner listed them", "kind": "site", "rules": rules}
    put = {"key": "giveaways--training", "ruleset": "giveaways", "to": ["training"]}
    return document.replacing(
        rulesets=(*document.rulesets, Ruleset.model_validate(long)),
        assignments=(*document.assignments, Assignment.model_validate(put)),
    )


# --- machines that joined before the demo starts ---


def _machine_steps(keepers: Keepers, service: str) -> Iterator[Step]:
    """Machines that fell silent, lost their credential, were installed anew, or tell no facts any more."""
    new = NewEnrolmentCode(name="the first wave", uses=50, hours=CODE_HOURS)
    code = keepers.enrolment.make_code(new, ADMINISTRATOR).code
    now = time.time()
    for old in old_machines():
        yield now - old.days * 86_400, partial(_join, keepers, code, old, service)
    oldest = max(old_machines(), key=lambda old: old.days)
    yield now - oldest.days * 86_400 + 60, partial(_note_known_programs, keepers, str(oldest.facts["hostname"]))
    yield (
        now - 1.5 * 86_400,
        lambda: keepers.enrolment.revoke_credential(keepers.fleet.device(LOST), ADMINISTRATOR, "Left on a train"),
    )


def _note_known_programs(keepers: Keepers, hostname: str) -> None:
    """What machines have had for long is known since then: one of them had all of it, and then no more."""
    device = keepers.fleet.device(hostname)
    own, then = device.facts.applications, keepers.now() - KNOWN_FOR_DAYS * 86_400
    with keepers.store.writing() as connection:
        catalogue.note_programs(connection, device.id, (*own, *known_before()), then)
        catalogue.note_programs(connection, device.id, own, then)


def _join(keepers: Keepers, code: str, old: Old, service: str) -> None:
    facts = Facts.model_validate(old.facts)
    joined = keepers.enrolment.join(code, facts)
    assert joined is not None
    device, credential = joined
    known = keepers.register.look_up(hash_secret(credential))
    assert known is not None
    wanted = keepers.register.wanted(known)
    with keepers.store.writing() as connection:
        devices.note_applied(
            connection, device, wanted.digest, (keepers.estate.snapshot.naming.epoch, wanted.revision), keepers.now()
        )
    if old.keeps_identity:
        folder = Folder(machine_folder(keepers.folder.path, facts.hostname))
        folder.keep_identity(Identity(service, device, credential, keepers.public_key, old.facts))


def _begin_lesson(keepers: Keepers) -> None:
    """A lesson under way in the training room: no pastime there for two hours from now."""
    now = datetime.now(UTC).replace(second=0, microsecond=0)
    asked = NewRestriction(key="lesson", what=("family:pastime",), on=("training",), until=now + timedelta(hours=2))

    def edit(snapshot: Snapshot) -> Estate:
        known = Known(snapshot.estate, tuple, lambda _name: None, keepers.people.directory)
        return restrictions.put_on(asked, known, (), "policy-desk", "Chart lesson", now).estate

    keepers.estate.change(edit, by="policy-desk", reason="Chart lesson")


def _load_guests(keepers: Keepers) -> None:
    """Machines that are known and have not joined."""
    recorded = tuple(NewDevice.model_validate(document) for document in RECORDED)
    keepers.enrolment.invite(Invitations(devices=recorded, codes=False), ADMINISTRATOR)
    invited = tuple(NewDevice.model_validate(document) for document in INVITED)
    keepers.enrolment.invite(Invitations(devices=invited), ADMINISTRATOR)

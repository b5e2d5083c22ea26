"""What machines tell of starts: how often, by whom, where; in the catalogue, beside sets, and for drawing up a list."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from conftest import Wire
from portero.client import NotFound, Portero
from portero.core.nouns.activity import MOST_A_DAY, ActivityBatch
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.group import Group
from portero.service.housekeeping import DAY
from portero.store import activity, starts
from serving import PASSWORD

pytestmark = pytest.mark.process

MAIL = {"path": "/opt/mail-1", "product": "Sound Mail", "version": "1", "vendor": "Sound"}
NEWER = {**MAIL, "path": "/opt/mail-2", "version": "2"}
TOOL = {"path": "/opt/tool", "file": "tool"}


def started(program: dict, times: int, user: str | None = None, days_ago: float = 0) -> dict:
    hour = (datetime.now(UTC) - timedelta(days=days_ago)).replace(minute=0, second=0, microsecond=0)
    return {"hour": hour.isoformat(), "program": program, "starts": times, **({"user": user} if user else {})}


def hand_over(wire: Wire, batch: int, *counts: dict) -> dict:
    return wire.http.post("/activity", json={"batch": batch, "starts": counts}).json()


@pytest.fixture(scope="module")
def machines(service, portero):
    one, other = Wire(service, portero, "start-1"), Wire(service, portero, "start-2")
    for wire in (one, other):
        wire.check_in(programs={"new": [MAIL, NEWER, TOOL]})
    hand_over(one, 1, started(MAIL, 3, "Purser-1"), started(MAIL, 2, "purser-1"), started(NEWER, 1, "watch-1"))
    hand_over(other, 1, started(MAIL, 4, "watch-2"), started(TOOL, 1), started(NEWER, 9, "long-gone", days_ago=40))
    return one, other


def program(portero, name: str):
    (found,) = (one for one in portero.applications.list(q=name) if one.name == name)
    return portero.applications.get(found.id)


def test_starts_people_and_machines_are_counted_once_each(portero, machines):
    one, _ = machines
    mail = program(portero, "Sound Mail")
    assert (mail.starts, mail.people, mail.started_on) == (10, 3, 2), "what is long past is not counted"
    assert {version.version: version.starts for version in mail.all_versions} == {"1": 9, "2": 1}
    (listed,) = portero.applications.list(q="sound mail")
    assert listed.starts == 10
    again = hand_over(one, 1, started(MAIL, 3, "purser-1"))
    assert again == {"batch": 1, "new": 0, "dropped": 0}
    assert program(portero, "Sound Mail").starts == 10, "a batch that is sent again counts once"
    assert program(portero, "tool").people == 0, "started by nobody in particular"


def test_a_set_says_who_started_what_it_catches(service, portero, machines):
    wanted = ApplicationSet.model_validate(
        {"key": "mails", "include": [{"product": "sound mail", "version": {"below": "2"}}]}
    )
    found = portero.application_sets.catch(wanted)
    assert (found.people, found.people_in_all) == (("purser-1", "watch-2"), 2)
    assert [(one.versions, one.people, one.started_on) for one in found.programs] == [(("1",), 2, 2)]
    assert found.sentence == "It holds Sound Mail on 2 machines, started by 2 people in the last 14 days."
    service.add("desk-aid", "reader", sees_names=False)
    with Portero(service.url) as reader:
        reader.access.sign_in("desk-aid", PASSWORD, label="tests")
        hidden = reader.application_sets.catch(wanted).people
    assert len(hidden) == 2
    assert all(person.startswith("person-") for person in hidden)


def test_an_allow_list_is_drawn_up_from_what_was_started_on_a_group(portero, machines):
    portero.groups.create(Group.model_validate({"key": "first-alone", "pins": {"in": ["start-1"]}}))
    found = portero.applications.started("first-alone")
    assert [(one.name, one.versions, one.started_on) for one in found] == [("Sound Mail", ("1", "2"), 1)]
    assert found[0].condition.product == "Sound Mail"
    names = {one.name for one in portero.applications.started("whole-fleet", days=60)}
    assert names >= {"Sound Mail", "tool"}
    with pytest.raises(NotFound, match="no group"):
        portero.applications.started("nowhere")


def test_what_was_started_and_never_told_of_is_known_as_gone(portero, machines):
    _, other = machines
    hand_over(other, 2, started({"path": "/media/stick/game", "file": "stick-game"}, 1, "watch-2"))
    assert "stick-game" in [one.name for one in portero.applications.list(gone=True)]


def test_no_more_is_kept_than_a_day_holds_and_old_sums_are_dropped(service, machines):
    _, other = machines
    batch = ActivityBatch.model_validate({"batch": 90, "starts": [started(TOOL, 1), started(TOOL, 1)]})
    now = datetime.now(UTC).timestamp()
    keepers = service.keepers
    with keepers.store.writing() as connection:
        connection.execute("UPDATE device SET rows_day = ?, rows_today = ?", (int(now // DAY), MOST_A_DAY - 1))
        assert activity.keep_batch(connection, other.id, batch, now) == (0, 1)
        assert connection.execute("SELECT count(*) FROM start_person WHERE person = 'long-gone'").fetchone()[0] == 1
        connection.execute("UPDATE start_person SET last = 0 WHERE person = 'long-gone'")
    for _ in range(3):
        keepers.housekeeper.let_time_pass()
    with keepers.store.reading() as connection:
        assert connection.execute("SELECT count(*) FROM start_person WHERE person = 'long-gone'").fetchone()[0] == 0
        assert starts.since(10.5 * DAY, 2) == 8 * DAY


def test_starts_of_a_program_are_counted_anew_as_days_pass(service, portero, machines):
    with service.keepers.store.writing() as connection:
        starts.recount(connection, starts.since(datetime.now(UTC).timestamp()))
    assert program(portero, "Sound Mail").starts == 10
    with service.keepers.store.writing() as connection:
        starts.recount(connection, datetime.now(UTC).timestamp() + DAY)
    assert program(portero, "Sound Mail").starts == 0

"""What a machine would have done earlier: by the revision, the facts and the labels of then."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from conftest import assignment, group, ruleset
from portero.core.nouns.compared import AttemptAnywhere
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.service.keepers import open_keepers
from portero.service.problems import Refusal
from portero.store import devices, earlier_facts

NOON = datetime(2026, 11, 20, 12, tzinfo=UTC)
GAMBLING = AttemptAnywhere(url="http://gambling.category.test/")


def facts(**more) -> Facts:
    layers = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}
    return Facts.model_validate({"hostname": "desk-1", "unit": "quay/desks", "layers": layers, **more})


class Told:
    """A service whose clock is turned by hand, with one machine."""

    def __init__(self, folder) -> None:
        self.now = NOON
        self.keepers = open_keepers(folder, clock=lambda: self.now.timestamp())
        code = self.keepers.enrolment.make_code(NewEnrolmentCode(uses=1), "test").code
        self.id, _ = self.keepers.enrolment.join(code, facts())

    def tell(self, hours: float, **more) -> None:
        """So many hours later the machine tells other facts."""
        self.now += timedelta(hours=hours)
        with self.keepers.fleet.assessing() as assessment:
            devices.note_facts(assessment.connection, self.id, facts(**more), self.now.timestamp())
            assessment.assess(self.id)

    def author(self, hours: float, **parts) -> None:
        """So many hours later the estate is another."""
        self.now += timedelta(hours=hours)
        self.keepers.estate.change(lambda snapshot: snapshot.estate.replacing(**parts), by="test")

    def earlier(self, hours: float):
        """What became of the visit so many hours after noon."""
        return self.keepers.side_by_side.now_and_then(GAMBLING, self.id, NOON + timedelta(hours=hours))


@pytest.fixture
def told(tmp_path):
    made = Told(tmp_path)
    yield made
    made.keepers.close()


def test_each_moment_is_judged_by_the_revision_and_the_facts_of_then(told):
    desks = group("desks", all=[{"field": "unit", "op": "under", "value": "quay/desks"}])
    kept = assignment("no-gambling", "desks").model_copy(update={"key": "at-desks"})
    told.author(1, groups=(desks,), precedence=("desks",), rulesets=(ruleset("no-gambling", gambling="block"),))
    told.author(1, assignments=(kept,))
    told.tell(1, layers={"filter": "off", "browser": "enforcing", "startup": "enforcing"})
    told.tell(1, unit="quay/yard")
    told.now += timedelta(hours=1)
    found = {hours: told.earlier(hours) for hours in (1.5, 2.5, 3.5, 4.5)}
    assert {hours: one.earlier.intended for hours, one in found.items()} == {
        1.5: "allow",
        2.5: "block",
        3.5: "block",
        4.5: "allow",
    }
    assert {hours: one.earlier.effective for hours, one in found.items()} == {
        1.5: "allow",
        2.5: "block",
        3.5: "allow",
        4.5: "allow",
    }
    assert {hours: one.earlier_revision for hours, one in found.items()} == {1.5: 1, 2.5: 2, 3.5: 2, 4.5: 2}
    differing = {one.what: (one.first, one.second) for one in found[3.5].differing}
    assert differing["groups"] == ("unclaimed", "desks")
    assert differing["layers"][1].startswith("filter off")
    assert differing["bundle"] == ("none", "the newest"), "it never fetched any"


def test_what_is_told_again_and_again_is_kept_as_differences(told):
    for hours in range(1, 30):
        told.tell(1, place="on-site" if hours % 2 else "off-site", signed_in=[f"clerk-{hours}"])
    with told.keepers.store.reading() as connection:
        kept = connection.execute("SELECT facts FROM earlier_facts").fetchall()
        then = earlier_facts.facts_at(connection, told.id, (NOON + timedelta(hours=3.5)).timestamp())
    assert len(kept) == 29
    assert max(len(row[0]) for row in kept) < 40, "no more than what differs, and nobody's name"
    assert then.facts.place == "on-site"


def test_a_moment_of_which_nothing_is_known_is_refused(told):
    told.now += timedelta(days=100)
    for moment, said in (
        (told.now + timedelta(hours=1), "still to come"),
        (told.now - timedelta(days=99), "kept for 90 days"),
        (NOON - timedelta(hours=1), "kept for 90 days"),
    ):
        with pytest.raises(Refusal, match=said):
            told.keepers.side_by_side.now_and_then(GAMBLING, told.id, moment)


def test_earlier_facts_go_when_their_days_are_over(told):
    told.tell(1, place="on-site")
    told.now += timedelta(days=60)
    told.tell(1, place="off-site")
    told.now += timedelta(days=40)
    for _ in range(3):
        told.keepers.housekeeper.let_time_pass()
    with told.keepers.store.reading() as connection:
        assert connection.execute("SELECT count(*) FROM earlier_facts").fetchone()[0] == 1


def test_before_it_joined_a_machine_did_nothing(tmp_path):
    told = Told(tmp_path)
    try:
        with told.keepers.store.writing() as connection:
            connection.execute("UPDATE device SET known_at = known_at - 7200")
        told.now += timedelta(hours=1)
        found = told.earlier(-1)
        assert "lifecycle" in {one.what for one in found.differing}
    finally:
        told.keepers.close()

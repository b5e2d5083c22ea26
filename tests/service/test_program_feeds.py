"""Feeds of programs: what the fleet does not have yet is known, and sets hold it by what it is for."""

from __future__ import annotations

import contextlib
from contextlib import closing

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.device import Application, Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.feed import Feed
from portero.core.nouns.ruleset import Ruleset
from portero.formats.feed_files import BadFeed, RefusedLine
from portero.formats.program_rows import read_programs
from portero.service.problems import Refusal
from portero.store import catalogue
from portero.store.catalogue import CatalogueFilter
from service.standins import NOON, Source, configure, keepers_at, poll, summary, text

LIST = (
    "product,vendor,version,category,signer\n"
    "Reach Over,Outland,2.0,remote-access,Outland\n"
    "Reach Over,Outland,2.1,remote-access,Outland\n"
    "Quill Pen,Inkwell,7,office,Inkwell\n"
    "Hull Scraper,Barnacle,1,hull-care,\n"
    ",Nobody,1,games,\n"
    "reach over,OUTLAND,2.0,games,\n"
)


@pytest.fixture
def source():
    with closing(Source()) as made:
        yield made


@pytest.fixture
def keepers(tmp_path):
    with keepers_at(tmp_path, NOON) as (made, _clock):
        yield made


def programs(source: Source, key: str = "programs") -> Feed:
    return Feed(key=key, kind="programs", format="csv", address=f"{source.url}/{key}.csv", private_network=True)


def known(keepers, **more) -> dict[str, tuple]:
    with keepers.store.reading() as connection:
        rows = catalogue.list_programs(connection, CatalogueFilter(known=True, **more), {}, NOON, None, 100).rows
    told = [catalogue.entry_of(row, {}) for row in rows]
    return {one.name: (one.vendor, one.newest, one.category, one.known_by) for one in told}


def test_what_it_names_is_known_with_what_it_is_for(keepers, source):
    configure(keepers, programs(source))
    source.answer = text(LIST)
    found = poll(keepers, "programs")
    told = found.in_force
    assert (found.last_poll.result, told.entries, told.duplicates, told.bad, told.added) == ("new", 4, 1, 1, 4)
    assert told.unknown_words == {"hull-care": 1}
    assert told.bad_lines[0].problem == "the line names no product"
    assert found.sentence.startswith("4 versions of programs, from http://127.0.0.1")
    assert known(keepers) == {
        "Reach Over": ("Outland", "2.1", "remote-access", "programs"),
        "Quill Pen": ("Inkwell", "7", "office", "programs"),
        "Hull Scraper": ("Barnacle", "1", None, "programs"),
    }
    assert list(known(keepers, category="office")) == ["Quill Pen"]
    assert list(known(keepers, q="outland")) == ["Reach Over"]
    assert keepers.foresight.world().catalogue["reach over"] == {"remote-access"}


def test_another_generation_takes_the_place_and_can_be_put_back(keepers, source):
    configure(keepers, programs(source), programs(source, "others"))
    source.answer = text(LIST)
    poll(keepers, "programs")
    source.answer = text("product,category\nReach Over,chat\nNewcomer,games\n")
    second = poll(keepers, "programs")
    assert (second.in_force.added, second.in_force.removed, second.in_force.changed) == (2, 4, 0)
    assert known(keepers) == {
        "Reach Over": (None, None, "chat", "programs"),
        "Newcomer": (None, None, "games", "programs"),
    }
    compared = keepers.comparisons.compare(programs(source), 1)
    assert (compared.added, compared.removed, compared.against) == (4, 0, None)
    keepers.feeds.go_back(programs(source))
    assert "Quill Pen" in known(keepers)
    assert keepers.foresight.world().catalogue["reach over"] == {"remote-access"}
    source.answer = text("not,a,list\nof,any,programs\n")
    failed = poll(keepers, "programs")
    assert failed.last_poll.result == "failed"
    assert "there is no column" in failed.last_poll.problem or "must name the columns" in failed.last_poll.problem
    assert "Quill Pen" in known(keepers), "what was in force stays"
    configure(keepers, programs(source, "others"))
    keepers.let_time_pass()
    assert (known(keepers), dict(keepers.foresight.world().catalogue)) == ({}, {})
    assert summary(keepers, "others").in_force is None


def test_sets_follow_what_a_feed_says_and_the_first_machine_that_has_it_is_noticed(keepers, source):
    tools = ApplicationSet.model_validate({"key": "tools", "include": [{"category": "remote-access"}]})
    rules = Ruleset.model_validate(
        {"key": "no-tools", "kind": "startup", "rules": [{"application_set": "tools", "action": "block"}]}
    )
    put = Assignment(key="a", ruleset="no-tools", to=("whole-fleet",))
    configure(keepers, programs(source), application_sets=(tools,), rulesets=(rules,), assignments=(put,))
    code = keepers.enrolment.make_code(NewEnrolmentCode(), "tests").code
    device, _ = keepers.enrolment.join(code, Facts(hostname="pc"))
    attempt = Attempt.model_validate({"device": "pc", "start": {"product": "reach OVER", "version": "9"}})

    def verdict() -> str:
        return keepers.checks.explain(attempt).intended.verdict

    assert verdict() == "allow"
    source.answer = text(LIST)
    poll(keepers, "programs")
    assert verdict() == "block", "of a product that no machine has"
    keepers.now.at += 3_600
    with keepers.store.writing() as connection:
        own = Application(product="Reach Over", vendor="Outland", version="2.1")
        catalogue.note_programs(connection, device, [own], keepers.now())
        (row,) = catalogue.list_programs(connection, CatalogueFilter(q="reach"), {}, NOON, None, 10).rows
    here = catalogue.entry_of(row, {})
    assert (here.devices, here.category, here.first_seen.timestamp()) == (1, "remote-access", NOON + 3_600)
    assert "Reach Over" not in known(keepers)


def test_a_feed_of_programs_is_what_it_says(keepers, source):
    with pytest.raises(ValueError, match="programs are not read from host-list; take one of csv"):
        Feed(key="x", kind="programs", format="host-list")
    with pytest.raises(ValueError, match="go with feeds of categories"):
        Feed(key="x", kind="programs", format="csv", categories=("games",))
    with pytest.raises(ValueError, match="go with indicators"):
        Feed(key="x", kind="programs", format="csv", action="block")
    configure(keepers, programs(source))
    with pytest.raises(Refusal, match="no generation 7"):
        keepers.comparisons.compare(programs(source), 7)


@given(st.lists(st.text(max_size=40), max_size=6))
def test_any_lines_are_read_or_refused_by_number(lines):
    data = "product,category,sha256\n" + "\n".join(lines)
    with contextlib.suppress(BadFeed):
        for read in read_programs([data.encode("utf-8", "surrogatepass")]):
            assert isinstance(read, RefusedLine) or read[1].product

"""The endpoint and real browsers on one machine: what is given is read, and what is done to it is put right."""

from __future__ import annotations

import os
from typing import Any

import pytest
from on_the_machine import played

pytestmark = [
    pytest.mark.browser,
    pytest.mark.skipif(os.geteuid() != 0, reason="only root can keep a browser's policy folders to itself"),
]


@pytest.fixture(scope="module")
def chromium() -> dict[str, Any]:
    return played("chromium")


@pytest.fixture(scope="module")
def firefox() -> dict[str, Any]:
    return played("firefox")


@pytest.mark.parametrize("change", ["started before there was a file", "changed while it runs"])
def test_a_chromium_that_runs_notices_its_list_within_seconds(chromium, change):
    assert chromium[change] is not None


@pytest.mark.parametrize(("harm", "what"), [("edited", "edited"), ("removed", "removed"), ("unreadable", "closed")])
def test_what_opens_chromium_is_put_right_and_told(chromium, harm, what):
    opened, noticed, stopped_again, tampering = chromium[harm]
    assert opened, "or it would be no harm"
    assert noticed == ["tampered"]
    assert stopped_again is not None
    assert tampering["what"] == what


def test_a_file_of_others_that_counts_is_told_and_left_alone(chromium):
    found = chromium["another file"]
    assert found == {"holds": False, "told": ["/etc/chromium/policies/managed/zz-other.json"], "left": True}


def test_a_broken_file_of_others_does_nothing_and_is_not_told(chromium):
    assert chromium["a broken file"] == {"holds": True, "told": [], "left": True}


def test_a_full_disk_leaves_the_earlier_list_whole_and_the_new_one_is_written_once_there_is_room(chromium):
    found = chromium["a full disk"]
    assert "unwritten" in found["noticed"]
    assert (found["problem"], found["earlier holds"]) == ("there is no room left on its disk", True)
    assert found["then"] == ["written"]
    assert found["holds"] is not None


def test_a_change_just_after_chromium_started_is_noticed_in_the_end(chromium, record_property):
    missed, noticed = chromium["changed just after its start"]
    if not missed:
        # that it goes unnoticed depends on how quickly the browser came up
        record_property("summary", "chromium: a change just after its start was noticed at once")
    assert noticed is not None


def test_a_firefox_that_runs_has_to_be_started_again_and_that_is_told(firefox):
    assert firefox["started before there was a file"] == [False, True]
    assert firefox["ended"] is False
    assert firefox["started again"] == [True, False]


def test_firefoxs_file_is_put_right_too_and_one_that_was_there_before_is_not_touched(firefox):
    assert firefox["edited while it runs"] == [True, ["tampered"], True]
    assert firefox["one that was there before"] == ["foreign", True]

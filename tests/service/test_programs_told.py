"""Programs come by themselves and as differences; facts that say nothing of them leave them as they are."""

from __future__ import annotations

import pytest

from conftest import Wire
from portero.core.nouns.device import Application
from portero.formats.program_lists import list_digest

pytestmark = pytest.mark.process
ONE = {"path": "/opt/one", "product": "One", "version": "1", "certificate": "ab" * 32}
TWO = {"path": "/opt/two", "product": "Two"}


def held(portero, hostname: str) -> list[dict]:
    applications = portero.devices.get(hostname).facts.applications
    return sorted((one.model_dump(exclude_none=True) for one in applications), key=lambda one: one["path"])


def base(*programs: dict) -> str:
    return list_digest(map(Application.model_validate, programs))


def test_a_list_is_told_whole_once_and_then_by_what_changed(service, portero):
    wire = Wire(service, portero, "told-pc")
    assert wire.check_in(programs={"new": [ONE, TWO]}).status_code == 200
    assert held(portero, "told-pc") == [ONE, TWO]
    newer = {**ONE, "version": "2"}
    answer = wire.check_in(programs={"base": base(ONE, TWO), "gone": ["/opt/two"], "new": [newer]})
    assert "Portero-Programs" not in answer.headers
    assert held(portero, "told-pc") == [newer]
    facts = {"hostname": "told-pc", "unit": "brackwater/quay"}
    wire.check_in(facts=facts)
    assert (portero.devices.get("told-pc").facts.unit, held(portero, "told-pc")) == ("brackwater/quay", [newer])
    wire.check_in(facts={**facts, "applications": []})
    assert held(portero, "told-pc") == []


def test_a_difference_to_another_list_asks_for_the_whole_and_notes_the_rest(service, portero):
    wire = Wire(service, portero, "lost-pc")
    wire.check_in(programs={"new": [ONE]})
    facts = {"hostname": "lost-pc", "unit": "brackwater/lost"}
    answer = wire.check_in(facts=facts, programs={"base": base(TWO), "gone": [], "new": [TWO]})
    assert answer.headers["Portero-Programs"] == "whole"
    assert (portero.devices.get("lost-pc").facts.unit, held(portero, "lost-pc")) == ("brackwater/lost", [ONE])


@pytest.mark.parametrize(
    ("programs", "says"),
    [
        ({"new": [{"path": 7}]}, "programs"),
        ({"new": [{"path": f"/{n}"} for n in range(5_001)]}, "5,000 programs at the most"),
        ({"news": []}, "unknown field"),
    ],
)
def test_a_list_that_is_none_is_refused_and_nothing_changes(service, portero, programs, says):
    wire = Wire(service, portero, f"odd-pc-{len(says)}")
    wire.check_in(programs={"new": [ONE]})
    answer = wire.check_in(programs=programs)
    assert answer.status_code in (400, 422)
    assert says in answer.json()["detail"]
    assert held(portero, f"odd-pc-{len(says)}") == [ONE]

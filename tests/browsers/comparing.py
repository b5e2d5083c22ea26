"""What a real browser stops under managed lists of sites, beside what Portero says that it does: tests for a family.

Each run starts the browser with its lists in namespaces of its own. `make explore` navigates far more, elsewhere.
"""

from __future__ import annotations

import os
import random
from collections.abc import Sequence
from typing import ClassVar, NamedTuple

import pytest
from made_lists import Maker, Run
from mistakes import MISTAKES
from real import asked

from portero.core.browsers.chromium import ChromiumLists
from portero.core.browsers.firefox import FirefoxLists
from portero.core.nouns.urls import parse_whole
from thorough import EXPLORING, times

LEAST = 300
EXPLORED = 17
"""How many times as many navigations are made when exploring: 5,000."""
SEED = random.randrange(1_000_000) if EXPLORING else 1
LIMITS = {"chromium": 1500, "firefox": 1000}
STOPPED = {"hop/0", "hop/3", "link", "tab", "form", "script", "refresh", "frame"}
NOT_STOPPED = {"image", "fetch", "style", "scripted", "history"}


class Navigated(NamedTuple):
    """What a real browser did under one pair of lists."""

    run: Run
    stopped: list[bool]


_known: dict[str, tuple[Navigated, ...] | Exception] = {}


def navigated(family: str) -> tuple[Navigated, ...]:
    """What the real browser did under all lists of this test run. It is asked once, whatever comes of it."""
    if family not in _known:
        try:
            _known[family] = tuple(one for part in range(times(1, EXPLORED)) for one in _navigate(family, SEED + part))
        except Exception as problem:
            _known[family] = problem
    found = _known[family]
    if isinstance(found, Exception):
        raise found
    return found


def _navigate(family: str, seed: int) -> list[Navigated]:
    maker = Maker(family, seed)
    if family == "firefox":
        # it takes long to start
        runs = [maker.filled(maker.run(240)), maker.run(60, anywhere=2)]
    else:
        runs = [maker.filled(maker.run(230)), maker.run(40, anywhere=1), maker.run(30, anywhere=3)]
    answers = asked({"browser": family, "runs": [run._asdict() for run in runs]})
    return [Navigated(run, stopped) for run, stopped in zip(runs, answers, strict=True)]


def predicted(family: str, run: Run) -> list[bool]:
    """What Portero says that the browser stops."""
    made = ChromiumLists if family == "chromium" else FirefoxLists
    lists = made(run.block, run.allow, LIMITS[family])
    firsts = (next(lists.matching(parse_whole(url)), None) for url in run.urls)
    return [first is not None and not first.allow for first in firsts]


def differing(family: str, seen: Sequence[Navigated]) -> list[str]:
    """The navigations that went another way than Portero says."""
    return [
        f"{url} was {'stopped' if real else 'let through'}, {_near(url, one.run)}"
        for one in seen
        for url, real, said in zip(one.run.urls, one.stopped, predicted(family, one.run), strict=True)
        if real is not said
    ]


def _near(url: str, run: Run) -> str:
    """The entries that are of the URL's own little list, and the first ones."""
    own = url.partition("//")[2].partition("/")[0].rpartition(".example")[0].rpartition(".")[2]
    blocks, allows = ([entry for entry in entries if f"{own}.example" in entry] for entries in (run.block, run.allow))
    return f"with {blocks} blocked and {allows} allowed, beside {run.block[:3]} and {run.allow[:3]}"


@pytest.mark.browser
@pytest.mark.timeout(5400)
@pytest.mark.skipif(os.geteuid() != 0, reason="needs root: the browsers' policy folders are put in memory")
class RealBrowser:
    """The tests of one family. `mistake` is every deliberate mistake in its model."""

    family: ClassVar[str]

    def pytest_generate_tests(self, metafunc: pytest.Metafunc) -> None:
        """One test a mistake."""
        if "mistake" in metafunc.fixturenames:
            metafunc.parametrize("mistake", MISTAKES[self.family])

    def test_every_navigation_goes_as_it_is_predicted(self, record_property: pytest.RecordProperty) -> None:
        seen = navigated(self.family)
        wrong = differing(self.family, seen)
        visited, stopped = sum(len(one.run.urls) for one in seen), sum(sum(one.stopped) for one in seen)
        summary = f"{self.family}: {visited:,} navigations, {stopped:,} stopped, {len(wrong)} not as predicted"
        record_property("summary", f"{summary} (seed {SEED})")
        assert not wrong, "\n".join([summary, *wrong[:20]])
        assert visited >= LEAST
        assert 0.1 * visited < stopped < 0.9 * visited

    def test_a_mistake_in_the_model_would_be_noticed(self, mistake: str, monkeypatch: pytest.MonkeyPatch) -> None:
        part = navigated(self.family)[:3]
        MISTAKES[self.family][mistake](monkeypatch)
        assert differing(self.family, part), "no navigation tells it from what is right"

    def test_navigations_of_every_kind_are_stopped_and_parts_of_a_page_are_not(self) -> None:
        kinds = asked({"browser": self.family, "kinds": True})
        assert {kind for kind, stopped in kinds.items() if stopped} == STOPPED
        assert kinds.keys() == STOPPED | NOT_STOPPED

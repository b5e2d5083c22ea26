"""Probe sets drawn up by Portero: from rulesets, from assignments, from what machines do."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta

from portero.core.insight.effects.subjects import KnownSubjects, Subject, category_subject, subjects_of
from portero.core.matching.categories import CategoryIndex
from portero.core.matching.windows import Windows
from portero.core.nouns.action import Verdict
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.attempt import Program
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import WHOLE_FLEET
from portero.core.nouns.layer import LAYERS, LayerMode, Layers
from portero.core.nouns.probe_set import Probe
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.settings import EstateLayers
from portero.core.nouns.urls import BadUrl
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.enforcement import Machine
from portero.core.resolving.explaining import Case, explain
from portero.core.resolving.policy import Policy

MOST_PROBES = 500
"""So many probes are drawn up of a ruleset; beyond them every so-many-th rule is taken."""
_WEEK = timedelta(days=8)


def of_ruleset(
    estate: Estate, ruleset: Ruleset, known: KnownSubjects, index: CategoryIndex, now: datetime
) -> list[Probe]:
    """A probe for each selector of a ruleset that a visit or a start can show, and one beside it that must pass; each
    expects what the ruleset means by itself.
    """
    alone = _Alone(estate, ruleset, index, now)
    step = max(1, -(-2 * len(ruleset.rules) // MOST_PROBES))
    probes: dict[tuple[str, str], Probe] = {}
    for rule in ruleset.rules[::step]:
        for subject in subjects_of(ruleset.kind, rule.selector, known):
            found = alone.probe(subject)
            if found is not None:
                probes.setdefault(_of_what(found), found)
            beside = alone.passing(_beside(subject))
            if beside is not None:
                probes.setdefault(_of_what(beside), beside)
            if len(probes) >= MOST_PROBES:
                return list(probes.values())
    return list(probes.values())


def of_assignment(
    estate: Estate, assignment: Assignment, known: KnownSubjects, index: CategoryIndex, now: datetime
) -> list[Probe]:
    """The probes of an assignment's ruleset where it counts: for somebody that it is for, at a moment when it holds."""
    more = {
        "user": next(iter(assignment.people.users), None) if assignment.people else None,
        "at": _holding_at(estate, assignment, now),
        "place": None if assignment.place == "anywhere" else assignment.place,
    }
    given = {name: value for name, value in more.items() if value is not None}
    ruleset = estate.ruleset_by_key[assignment.ruleset]
    return [one.model_copy(update=given) for one in of_ruleset(estate, ruleset, known, index, now)]


def staying_open(hosts: Iterable[str]) -> list[Probe]:
    """Hosts that people visit go on passing."""
    return [Probe(visit=f"https://{host}/", expect=Verdict.ALLOW) for host in hosts]


def staying_stopped(hosts: Iterable[str]) -> list[Probe]:
    """Hosts that were stopped stay so."""
    return [Probe(visit=f"http://{host}/", expect=Verdict.BLOCK) for host in hosts]


def _of_what(probe: Probe) -> tuple[str, str]:
    return probe.visit or "", probe.start.model_dump_json() if probe.start else ""


def _holding_at(estate: Estate, assignment: Assignment, now: datetime) -> datetime | None:
    """A moment at which an assignment holds; None where it holds now, or nobody can say."""
    if assignment.schedule is None:
        return None
    windows = Windows.of(estate.schedule_by_key[assignment.schedule])
    at: datetime | None = now
    while at is not None and at < now + _WEEK:
        if windows.is_open(at):
            return at.replace(microsecond=0)
        at = windows.next_change(at)
    return None


class _Alone:
    """What a ruleset means by itself, on every machine."""

    def __init__(self, estate: Estate, ruleset: Ruleset, index: CategoryIndex, now: datetime) -> None:
        assignment = Assignment(key="alone", ruleset=ruleset.key, to=(WHOLE_FLEET,))
        only = estate.replacing(
            groups=(), precedence=(), rulesets=(ruleset,), assignments=(assignment,), layer_modes=(), probe_sets=()
        )
        layers = dict.fromkeys(LAYERS, LayerMode.ENFORCING)
        settings = only.settings.model_copy(update={"layers": EstateLayers(**layers)})
        self._policy = Policy(compile_bundle(only.replacing(settings=settings), (WHOLE_FLEET,)))
        self._machine = Machine(layers=Layers(**layers), applied=self._policy)
        self._ruleset, self._index, self._now = ruleset, index, now

    def probe(self, subject: Subject) -> Probe | None:
        """The subject with what the ruleset means of it; None where a visit or a start cannot show it."""
        made = _probe_of(subject)
        if made is None:
            return None
        try:
            case = Case(made.attempt("any-machine").model_copy(update={"at": self._now}), self._index, self._machine)
            meant = explain(self._policy, case).intended.verdict
        except BadUrl:
            return None
        stops = meant is not Verdict.ALLOW
        return made.model_copy(update={"expect": meant, "ruleset": self._ruleset.key if stops else None})

    def passing(self, subjects: Iterable[Subject]) -> Probe | None:
        """The first of some subjects that the ruleset lets pass."""
        found = (self.probe(subject) for subject in subjects)
        return next((one for one in found if one is not None and one.expect is Verdict.ALLOW), None)


def _probe_of(subject: Subject) -> Probe | None:
    if subject.program is not None:
        fields = subject.program.model_dump(exclude_none=True)
        return Probe(start=Program(**fields), expect=Verdict.ALLOW) if fields else None
    if subject.search_term or subject.media_type or subject.url is None:
        # an address alone does not show it
        return None
    return Probe(visit=subject.url, expect=Verdict.ALLOW)


def _beside(subject: Subject) -> Iterator[Subject]:
    """What is next to a subject: a host beside a host, another category, another program."""
    if subject.program is not None:
        yield Subject("program", "another", program=subject.program.model_copy(update=_OTHER))
    elif subject.kind == "category":
        keys = list(TAXONOMY.categories)
        place = keys.index(subject.name)
        yield from map(category_subject, (*keys[place + 1 :], *keys[:place]))
    elif subject.kind == "host":
        yield Subject("host", "", f"http://beside-{subject.name}/")
    elif subject.url is not None:
        scheme, _, rest = subject.url.partition("://")
        host, _, _path = rest.partition("/")
        yield Subject("url", "", f"{scheme}://{host}/")
        yield Subject("url", "", f"{scheme}://beside-{host}/")


_OTHER = {"product": "Some other program", "file": "some-other-program", "sha256": "0" * 64, "path": None}

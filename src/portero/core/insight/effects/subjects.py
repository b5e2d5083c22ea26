"""Subjects: for each selector, a visit or a start that shows what comes of it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from portero.core import sentences
from portero.core.matching.applications import SetTest, Started, Test
from portero.core.matching.categories import CategoryIndex, look_up
from portero.core.matching.searches import searched
from portero.core.nouns.application_set import ApplicationCondition, ApplicationSet, with_taken_in
from portero.core.nouns.device import Application
from portero.core.nouns.essentials import is_essential
from portero.core.nouns.estate import Estate
from portero.core.nouns.patterns import Pattern
from portero.core.nouns.rule import RulesetKind
from portero.core.nouns.selector import Selector
from portero.core.nouns.service import Service
from portero.core.nouns.taxonomy import TEST_HOST_SUFFIX
from portero.core.nouns.urls import Visit, address_of, normal_range, parse_visit
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.resolving.deciding import Visited

ELSEWHERE = "any-other-site.test"
"""Stands for a host that nothing names."""
OTHER_PROGRAM = Application(file="any-other-program")
MOST_PROGRAMS = 200
"""How many programs are looked at for one application set."""
MOST_SHOWN = 50_000


class Subject(NamedTuple):
    """Something that rules decide about. `kind` and `name` are those of a selector, or “program”."""

    kind: str
    name: str
    url: str | None = None
    program: Application | None = None
    search_term: str | None = None
    media_type: str | None = None

    @property
    def is_start(self) -> bool:
        """Whether it is a program about to start."""
        return self.program is not None


class Shown(NamedTuple):
    """A subject as rules look at it under one estate: a visit, or a start."""

    visited: Visited | None
    started: Started | None
    essential: bool = False


class KnownSubjects(NamedTuple):
    """What subjects are found with: services and application sets of both estates, the programs on the fleet."""

    services: Sequence[Service]
    sets: Sequence[Mapping[str, ApplicationSet]]
    """Those of each estate, by key."""
    corrected: Sequence[Mapping[str, str]]
    """What products are for as each estate corrects it, by product, folded."""
    find_programs: Callable[[], Sequence[Application]]
    catalogue: Mapping[str, frozenset[str]]

    @classmethod
    def of(
        cls,
        estates: Iterable[Estate],
        programs: Callable[[], Sequence[Application]],
        catalogue: Mapping[str, frozenset[str]],
    ) -> KnownSubjects:
        """Of some estates together."""
        several = list(estates)
        services = [service for estate in several for service in estate.services]
        return cls(
            services,
            [estate.application_set_by_key for estate in several],
            [estate.corrected_programs for estate in several],
            programs,
            catalogue,
        )


def subjects_of(kind: RulesetKind, selector: Selector, known: KnownSubjects) -> Iterator[Subject]:
    """What shows a selector of a ruleset of that kind; several where it stands for several things."""
    if kind == "category":
        yield from _of_category_rule(selector)
    elif kind == "indicator":
        yield from _of_indicator(selector, known)
    elif kind == "site":
        pattern = Pattern.of(selector.value)
        if pattern.scheme in ("", "http", "https"):
            # no visit shows one of another scheme
            yield Subject("pattern", selector.value, url_of(pattern))
    else:
        yield from _of_startup_rule(selector, known)


def category_subject(key: str) -> Subject:
    """A web category, shown by its test host."""
    return Subject("category", key, f"http://{key}{TEST_HOST_SUFFIX}/")


def host_subject(host: str) -> Subject:
    """A host itself."""
    return Subject("host", host, f"http://{host}/")


def _of_category_rule(selector: Selector) -> Iterator[Subject]:
    kind, value, _ = selector
    if kind == "search_term":
        yield Subject(kind, value, f"http://{ELSEWHERE}/", search_term=value)
    elif kind == "media_type":
        shown = value.replace("/*", "/any") if value.endswith("/*") else value
        yield Subject(kind, value, f"http://{ELSEWHERE}/", media_type=shown)
    elif kind == "category":
        yield category_subject(value)
    elif kind == "family":
        yield from (category_subject(category.key) for category in TAXONOMY.by_family[value].categories)
    else:
        yield from map(category_subject, TAXONOMY.categories)


def _of_indicator(selector: Selector, known: KnownSubjects) -> Iterator[Subject]:
    kind, value, _ = selector
    if kind == "host":
        yield host_subject(value)
    elif kind == "url":
        yield Subject(kind, value, f"http://{value}")
    elif kind == "address":
        first = str(normal_range(value).network_address)
        yield Subject(kind, value, f"http://[{first}]/" if ":" in first else f"http://{first}/")
    else:
        for service in known.services:
            if service.is_meant_by(selector):
                yield from map(host_subject, service.hosts)


def url_of(pattern: Pattern) -> str:
    """A URL that a site pattern holds."""
    port = f":{pattern.port}" if pattern.port else ""
    query = "?" + "&".join(str(token).rstrip("*") for token in pattern.query) if pattern.query else ""
    # a dot at the end begins a name here, and would be a step in a URL
    path = f"{pattern.path}x" if pattern.path.endswith(".") else pattern.path or "/"
    return f"{pattern.scheme or 'http'}://{pattern.host or ELSEWHERE}{port}{path}{query}"


# --- programs ---


def _of_startup_rule(selector: Selector, known: KnownSubjects) -> Iterator[Subject]:
    kind, value, _ = selector
    if kind == "everything":
        yield program_subject(OTHER_PROGRAM)
    elif kind == "sha256":
        own = next(
            (program for program in known.find_programs() if program.sha256 == value),
            Application(sha256=value),
        )
        yield program_subject(own)
    else:
        for sets, corrected in zip(known.sets, known.corrected, strict=True):
            if value in sets:
                yield from map(program_subject, programs_of(sets[value], sets, corrected, known))


def programs_of(
    application_set: ApplicationSet,
    sets: Mapping[str, ApplicationSet],
    corrected: Mapping[str, str],
    known: KnownSubjects,
) -> list[Application]:
    """The programs on the fleet that a set of an estate holds; where there is none, such as its conditions describe."""
    test = SetTest(application_set, sets)

    def is_held(program: Application) -> bool:
        return test.fit(Started.of(program, known.catalogue, corrected)).narrowness is not None

    held = list(filter(is_held, known.find_programs()))
    if not held:
        made = [
            Application(sha256=member) if isinstance(member, str) else Application(**dict(member))
            for member in application_set.frozen_members or ()
        ]
        include = [condition for key in with_taken_in([application_set.key], sets) for condition in sets[key].include]
        made += [one for condition in include if (one := _described(condition)) is not None]
        held = list(filter(is_held, made))
    return held[:MOST_PROGRAMS]


def _described(condition: ApplicationCondition) -> Application | None:
    fields = condition.model_dump(exclude_none=True, exclude={"version"})
    for version in _versions_around(condition):
        program = Application.model_validate({**fields, "version": version} if version else fields)
        if not condition.version or all(test(version or "") for test in Test(condition).bounds):
            return program
    return None


def _versions_around(condition: ApplicationCondition) -> list[str | None]:
    if condition.version is None:
        return [None]
    return ["0", *(value for _, value in condition.version.given()), "99999"]


def product_subjects(product: str, known: KnownSubjects) -> Iterator[Subject]:
    """A product in each of its versions on the fleet; by its name alone where there is none."""
    meant = [one for one in known.find_programs() if (one.product or "").casefold() == product.casefold()]
    yield from map(program_subject, meant[:MOST_PROGRAMS] or [Application(product=product)])


def program_subject(program: Application) -> Subject:
    """A program about to start, under the name that people know it by."""
    return Subject("program", _program_words(program), program=program)


def _program_words(program: Application) -> str:
    if program.product or program.file or program.path or program.sha256:
        return sentences.program_words(program)
    maker = program.vendor or program.signer
    name = f"any program of {maker}" if maker else f"any program of category {program.category}"
    return f"{name} {program.version}" if program.version else name


# --- as rules look at them ---


class Showing:
    """Shows subjects under one estate: its corrections, its search pages."""

    def __init__(self, estate: Estate, index: CategoryIndex, catalogue: Mapping[str, frozenset[str]]) -> None:
        self._made_of = self._parts(estate, index, catalogue)
        self._known: dict[Subject, Shown] = {}
        self._index, self._catalogue = index, catalogue
        self._corrections = {correction.host: correction.categories for correction in estate.corrections}
        self._corrected_programs = estate.corrected_programs
        self._pages: dict[str, tuple[str, ...]] = {}
        for page in estate.settings.search_pages:
            self._pages[page.host] = (*self._pages.get(page.host, ()), page.parameter)

    @staticmethod
    def _parts(estate: Estate, index: CategoryIndex, catalogue: Mapping[str, frozenset[str]]) -> tuple[object, ...]:
        return index, catalogue, estate.corrections, estate.application_corrections, estate.settings

    def is_of(self, estate: Estate, index: CategoryIndex, catalogue: Mapping[str, frozenset[str]]) -> bool:
        """Whether it would show everything alike under another estate."""
        parts = self._parts(estate, index, catalogue)
        return all(mine is theirs for mine, theirs in zip(self._made_of, parts, strict=True))

    def show(self, subject: Subject) -> Shown:
        """The subject as rules look at it. BadUrl where its URL is none, which no valid rule makes."""
        known = self._known.get(subject)
        if known is None:
            if len(self._known) >= MOST_SHOWN:
                self._known.clear()
            known = self._known[subject] = self._show(subject)
        return known

    def _show(self, subject: Subject) -> Shown:
        if subject.program is not None:
            started = Started.of(subject.program, self._catalogue, self._corrected_programs)
            return Shown(None, started, is_essential(subject.program, None))
        assert subject.url is not None
        visit = parse_visit(subject.url)
        term = subject.search_term or searched(visit, self._pages)
        categories = self._categories(subject, visit)
        return Shown(Visited(visit, categories, address_of(visit.host), term, subject.media_type), None)

    def _categories(self, subject: Subject, visit: Visit) -> tuple[str, ...]:
        # a term, a type or a pattern is looked at for itself, whatever else is said of the page on which it stands
        if subject.search_term or subject.media_type or visit.host == ELSEWHERE:
            return ()
        return look_up(visit.host, self._index, self._corrections).categories

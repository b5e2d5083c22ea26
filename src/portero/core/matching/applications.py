"""Whether a program about to start is one that a rule means, and by which of its fields."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from portero.core.matching.members import Item
from portero.core.matching.membership_conditions import version_test
from portero.core.nouns.application_set import ApplicationCondition, ApplicationSet, FrozenProgram
from portero.core.nouns.device import Application
from portero.core.nouns.essentials import normal_program_path
from portero.core.wording import joined

FIELDS = ("sha256", "path", "product", "file", "signer", "certificate", "vendor", "category")

SHA256, PATH, NAME_WITH_VERSION, NAME, MAKER, CATEGORY, EVERYTHING = range(7)
"""How narrow a selector of programs is; smaller is narrower."""
_NARROWNESS = {
    "sha256": SHA256,
    "path": PATH,
    "product": NAME,
    "file": NAME,
    "signer": MAKER,
    "certificate": MAKER,
    "vendor": MAKER,
}


class Started(NamedTuple):
    """A program about to start, its fields folded; None where it does not carry one."""

    fields: Mapping[str, str]
    version: str | None
    categories: frozenset[str]

    @classmethod
    def of(cls, program: Application, catalogue: Mapping[str, frozenset[str]], corrected: Mapping[str, str]) -> Started:
        """Of what the attempt carries. Nothing is filled in, but for what its product is for: as it was corrected
        (`corrected`, by product, folded), else as the attempt says, else as the catalogue does.
        """
        fields = {
            name: fold(name, value)
            for name in FIELDS
            if name != "category" and (value := getattr(program, name)) is not None
        }
        product = fields.get("product", "")
        own = corrected.get(product) or program.category
        return cls(fields, program.version, frozenset((own,)) if own else catalogue.get(product, frozenset()))

    def has(self, name: str) -> bool:
        """Whether it carries a field."""
        if name == "category":
            return bool(self.categories)
        return self.version is not None if name == "version" else name in self.fields


def fold(name: str, value: str) -> str:
    """A field's value as it is compared: names fold case, paths do on Windows."""
    return normal_program_path(value) if name == "path" else value.casefold()


def catalogue_of(applications: Iterable[Application | Item]) -> dict[str, frozenset[str]]:
    """The categories of known products, by product, folded."""
    found: dict[str, frozenset[str]] = {}
    for application in applications:
        if application.product and application.category:
            product = application.product.casefold()
            found[product] = found.get(product, frozenset()) | {application.category}
    return found


class Fit(NamedTuple):
    """How a program fits: how narrow the match is, or None for no match; and fields that were missing to tell."""

    narrowness: int | None
    missing: frozenset[str] = frozenset()


NO_FIT = Fit(None)


class Test:
    """A condition, made ready to be asked."""

    def __init__(self, condition: ApplicationCondition) -> None:
        values = {name: getattr(condition, name) for name in FIELDS if getattr(condition, name) is not None}
        self.category = values.pop("category", None)
        self.fields = {name: fold(name, value) for name, value in values.items()}
        self.bounds = [version_test(*bound) for bound in condition.version.given()] if condition.version else []
        self.narrowness = self._narrowness()

    def _narrowness(self) -> int:
        names = [_NARROWNESS[name] for name in self.fields]
        if self.bounds and NAME in names:
            names.append(NAME_WITH_VERSION)
        return min([*names, *([CATEGORY] if self.category else [])])

    def fit(self, program: Started) -> Fit:
        """Whether it holds; where it fails for nothing but fields that the program does not carry, which."""
        missing = set()
        for name, wanted in self.fields.items():
            found = program.fields.get(name)
            if found is None:
                missing.add(name)
            elif found != wanted:
                return NO_FIT
        if self.category is not None:
            if not program.categories:
                missing.add("category")
            elif self.category not in program.categories:
                return NO_FIT
        if self.bounds:
            if program.version is None:
                missing.add("version")
            elif not all(test(program.version) for test in self.bounds):
                return NO_FIT
        return Fit(None, frozenset(missing)) if missing else Fit(self.narrowness)


class _FrozenTest:
    """A frozen program that is known without a SHA-256, made ready to be asked."""

    def __init__(self, program: FrozenProgram) -> None:
        given = program.model_dump(exclude_none=True, exclude={"version"})
        self._fields = {name: fold(name, value) for name, value in given.items()}
        self._version = program.version and program.version.casefold()
        names = [_NARROWNESS[name] for name in self._fields]
        self.narrowness = min([*names, NAME_WITH_VERSION] if self._version and NAME in names else names)

    def fit(self, program: Started) -> Fit:
        """Whether it is that one; where only fields are missing to tell, which."""
        missing = {name for name in self._fields if name not in program.fields}
        if any(program.fields.get(name, wanted) != wanted for name, wanted in self._fields.items()):
            return NO_FIT
        if self._version and program.version is None:
            missing.add("version")
        elif self._version and self._version != (program.version or "").casefold():
            return NO_FIT
        return Fit(None, frozenset(missing)) if missing else Fit(self.narrowness)


class SetTest:
    """An application set, made ready to be asked."""

    def __init__(self, application_set: ApplicationSet, others: Mapping[str, ApplicationSet]) -> None:
        """`others` has the sets that it takes in, and those that they do, by key."""
        self._holding: list[Test | SetTest] = [Test(condition) for condition in application_set.include]
        if application_set.following:
            self._holding += [SetTest(others[key], others) for key in application_set.sets]
        self._exclude = [Test(condition) for condition in application_set.exclude]
        members = application_set.frozen_members or ()
        self._is_frozen = not application_set.following
        self._digests = frozenset(member for member in members if isinstance(member, str))
        self._programs = [_FrozenTest(member) for member in members if not isinstance(member, str)]

    def fit(self, program: Started) -> Fit:
        """Whether the set holds the program; as narrow as its narrowest include condition that does."""
        excluded = [test.fit(program) for test in self._exclude]
        if any(fit.narrowness is not None for fit in excluded):
            return NO_FIT
        missing = frozenset(name for fit in excluded for name in fit.missing)
        included = [test.fit(program) for test in self._holding]
        narrowest = min((fit.narrowness for fit in included if fit.narrowness is not None), default=None)
        if self._is_frozen:
            return self._frozen_fit(program, narrowest, missing)
        if narrowest is None:
            return Fit(None, missing.union(*(fit.missing for fit in included)))
        return Fit(narrowest, missing)

    def leaves_out(self, program: Started) -> bool:
        """Whether its exclude conditions take away what its include conditions hold."""
        includes, excludes = (
            any(test.fit(program).narrowness is not None for test in tests)
            for tests in (self._holding, [*self._exclude])
        )
        return includes and excludes

    def _frozen_fit(self, program: Started, narrowest: int | None, missing: frozenset[str]) -> Fit:
        """A frozen set names its members; its conditions only say how narrow they are meant."""
        own = program.fields.get("sha256")
        fits = [Fit(SHA256)] if own in self._digests else [test.fit(program) for test in self._programs]
        held = min((fit.narrowness for fit in fits if fit.narrowness is not None), default=None)
        if held is not None:
            return Fit(held if narrowest is None else narrowest, missing)
        lacking = frozenset({"sha256"} if own is None and self._digests else ()).union(*(fit.missing for fit in fits))
        return Fit(None, missing | lacking) if lacking else NO_FIT


class CannotFreeze(ValueError):
    """Some programs that a set holds have nothing by which they could be kept; the message says which."""


def members_of(
    application_set: ApplicationSet,
    applications: Iterable[Application],
    others: Mapping[str, ApplicationSet],
    corrected: Mapping[str, str],
) -> tuple[str | FrozenProgram, ...]:
    """Those of the programs that its conditions hold, each by what identifies it best: what freezing it now would keep.
    CannotFreeze.
    """
    following = application_set.model_copy(update={"following": True, "frozen_members": None})
    test = SetTest(following, others)
    known = list(applications)
    catalogue = catalogue_of(known)
    held = [one for one in known if test.fit(Started.of(one, catalogue, corrected)).narrowness is not None]
    digests = {program.sha256 for program in held if program.sha256}
    unnamed = [program for program in held if not program.sha256]
    if any(not (program.product or program.path or program.file) for program in unnamed):
        told = next(program for program in unnamed if not (program.product or program.path or program.file))
        what = told.model_dump(exclude_none=True)
        raise CannotFreeze(
            f"the set {application_set.key} cannot be frozen: of a program that it holds only"
            f" {joined([f'{name} “{value}”' for name, value in what.items()])} is known, and freezing would let it"
            " through; exclude it, or let the set follow"
        )
    programs = {_frozen(program) for program in unnamed}
    return (*sorted(digests), *sorted(programs, key=lambda program: program.model_dump_json()))


def _frozen(program: Application) -> FrozenProgram:
    given = program.model_dump(include=set(FrozenProgram.model_fields))
    dropped = {"path", "file"} if program.product else {"file"} if program.path else set()
    return FrozenProgram(**{name: value for name, value in given.items() if name not in dropped})

"""What administrators author, noun by noun: all that the layers ask of one stands at its model, and nowhere else.

The document, differences, history, the store, routes, the client, commands and the console's lists are derived from it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Annotated, Any, ClassVar, TypeVar, get_args

from pydantic import BaseModel, Field, create_model

from portero.core.nouns.access import Role
from portero.core.nouns.base import Noun


@dataclass(frozen=True)
class Declared:
    """What a model says of its noun."""

    word: str
    """As people say it: “application set”."""
    list: str
    """The estate's list of them: “application_sets”."""
    key: str = "key"
    """What names an object: a field, or a property that is made of fields."""
    right: Role = "author"
    """The least role that may change them."""
    about: str = ""
    """A sentence for whoever reads a list of them."""
    key_has_strokes: bool = False
    """What names an object may be several segments of an address: what is put names it in its body alone."""
    single: str = ""
    """How one is spoken of, where that is not the word itself: “set of layer modes”."""


class Authored(Noun):
    """Base of the nouns that administrators author. Each model says in `declared` what all layers ask of it."""

    declared: ClassVar[Declared]
    shown_alone: ClassVar[type[BaseModel] | None] = None
    shown_listed: ClassVar[type[BaseModel] | None] = None


Shown = TypeVar("Shown", bound=type[BaseModel])


def shows(model: type[Authored], *, alone: bool = True, listed: bool = True) -> Callable[[Shown], Shown]:
    """The decorated model is what is told of an object of the other one: of one alone, in lists, or both."""

    def register(shown: Shown) -> Shown:
        if alone:
            model.shown_alone = shown
        if listed:
            model.shown_listed = shown
        return shown

    return register


VERSION = Annotated[int, Field(description="The revision that last changed it; also its ETag.")]


@dataclass(frozen=True)
class AuthoredNoun(Declared):
    """One noun that administrators author, as every layer sees it."""

    model: type[Authored] = Authored

    @property
    def plural(self) -> str:
        """“application sets”"""
        return self.list.replace("_", " ")

    @property
    def path(self) -> str:
        """Where the service has them: “/application-sets”."""
        return "/" + self.list.replace("_", "-")

    @property
    def command(self) -> str:
        """The command's word: “application-set”."""
        return self.word.replace(" ", "-")

    @property
    def operation(self) -> str:
        """The noun within an operation's name: “ApplicationSet”."""
        return self.word.title().replace(" ", "")

    @property
    def operations(self) -> str:
        """The same of many: “ApplicationSets”."""
        return self.plural.title().replace(" ", "")

    @property
    def one(self) -> str:
        """One, in the middle of a sentence: “application set”, “set of layer modes”."""
        return self.single or self.word

    @property
    def a(self) -> str:
        """The same with its article: “an application set”."""
        return f"{'an' if self.one[0] in 'aeiou' else 'a'} {self.one}"

    @cached_property
    def shown(self) -> type[BaseModel]:
        """What is told of one: by default all that was written, with its version."""
        return self.model.shown_alone or create_model(
            f"{self.model.__name__}State", __base__=self.model, version=(VERSION, ...)
        )

    @cached_property
    def listed(self) -> type[BaseModel]:
        """What lists tell of each."""
        return self.model.shown_listed or self.shown

    def of(self, estate: Any) -> tuple[Any, ...]:
        """Those of an estate, in their order."""
        found: tuple[Any, ...] = getattr(estate, self.list)
        return found

    def key_of(self, one: Any) -> str:
        """What names an object."""
        return str(getattr(one, self.key))

    def key_in(self, document: Mapping[str, Any]) -> str:
        """What names an object, read from its document."""
        return str(document[self.key]) if self.key in document else self.key_of(self.model.model_validate(document))

    def differing(self, before: Any, after: Any) -> tuple[tuple[Any, ...], tuple[Any, ...], bool]:
        """Those of two estates, without the same ones at the head and the tail of both lists; whether some are at the
        tail.
        """
        old, new = self.of(before), self.of(after)
        fewer = min(len(old), len(new))
        head = next((place for place in range(fewer) if old[place] is not new[place]), fewer)
        rest = range(1, fewer - head + 1)
        tail = next((place - 1 for place in rest if old[-place] is not new[-place]), fewer - head)
        return old[head : len(old) - tail], new[head : len(new) - tail], tail > 0

    def by_key(self, estate: Any) -> dict[str, Any]:
        """Those of an estate, by what names them."""
        return {self.key_of(one): one for one in self.of(estate)}


def noun_of(model: type[Authored]) -> AuthoredNoun:
    """The noun that a model declares."""
    return AuthoredNoun(**vars(model.declared), model=model)


class DescribedNoun(Noun):
    """One of the nouns that administrators author, for programs that treat all of them alike."""

    word: Annotated[str, Field(description="As people say it: “application set”.")]
    list: Annotated[str, Field(description="Its list in the estate document.")]
    path: Annotated[str, Field(description="Where its objects are, below /api/v1.")]
    key: Annotated[str, Field(description="What names an object.")]
    right: Annotated[Role, Field(description="The least role that may change them.")]
    about: str


def nouns_of(document: type[BaseModel]) -> dict[str, AuthoredNoun]:
    """The nouns of which a document has lists, by their words, in its order. TypeError where a list's model declares
    none, or another list than it stands in: it would be kept nowhere.
    """
    found: dict[str, AuthoredNoun] = {}
    for name, field in document.model_fields.items():
        for model in filter(_is_model, get_args(field.annotation)):
            if not issubclass(model, Authored):
                raise TypeError(f"{model.__name__} stands in {name}, and is no Authored noun")
            told = model.declared
            if told.list != name or told.word in found:
                raise TypeError(f"{model.__name__} is declared as {told.word} of {told.list}, and stands in {name}")
            found[told.word] = noun_of(model)
    return found


def parts_of(document: type[BaseModel], beside: Iterable[str]) -> dict[str, Role]:
    """The parts of a document that there is one of, with the least role that may change each, but those `beside`."""
    lists = {noun.list for noun in nouns_of(document).values()}
    names = [name for name in document.model_fields if name not in lists and name not in beside]
    return {name: getattr(document.model_fields[name].annotation, "right", "author") for name in names}


def _is_model(inner: Any) -> bool:
    return isinstance(inner, type) and issubclass(inner, BaseModel)

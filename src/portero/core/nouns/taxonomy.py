"""The web taxonomy: families of categories, each with its definition and its reserved test host."""

from __future__ import annotations

from functools import cached_property
from typing import Annotated

from pydantic import Field

from portero.core.nouns.base import Hostname, Key, Name, Note, Noun
from portero.core.nouns.ground import Ground

TEST_HOST_SUFFIX = ".category.test"
"""Test hosts live under `.test`, which RFC 6761 reserves: no real site can ever answer there."""

UNCATEGORISED = "uncategorised"
NEWLY_REGISTERED = "newly-registered"


class Category(Noun):
    """One web category: what sort of content a host carries."""

    key: Key
    name: Name
    definition: Note
    ground: Annotated[Ground | None, Field(description="Why one would stop it, if one does.")] = None
    test_host: Annotated[Hostname, Field(description="A reserved host, always in this category, to try a block with.")]


class Family(Noun):
    """A family of categories, so that a rule can name them all at once."""

    key: Key
    name: Name
    categories: tuple[Category, ...]


class Taxonomy(Noun):
    """The two levels together."""

    families: tuple[Family, ...]

    @cached_property
    def categories(self) -> dict[str, Category]:
        """Every category by key, in the taxonomy's order."""
        return {category.key: category for family in self.families for category in family.categories}

    @cached_property
    def family_of(self) -> dict[str, str]:
        """The key of each category's family."""
        return {category.key: family.key for family in self.families for category in family.categories}

    @cached_property
    def by_family(self) -> dict[str, Family]:
        """Every family by key."""
        return {family.key: family for family in self.families}

    def category_of_test_host(self, host: str) -> str | None:
        """The category whose test host this is, or is below; or None."""
        if not host.endswith(TEST_HOST_SUFFIX):
            return None
        key = host.removesuffix(TEST_HOST_SUFFIX).rpartition(".")[2]
        return key if key in self.categories else None

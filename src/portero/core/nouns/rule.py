"""One selector and one action. Which selectors a rule may use depends on the kind of its ruleset."""

from __future__ import annotations

import re
from functools import cached_property, lru_cache
from typing import Annotated, Literal, Self

from publicsuffixlist import PublicSuffixList
from pydantic import AfterValidator, ConfigDict, Field, StringConstraints, field_validator, model_validator

from portero.core.nouns.action import Action
from portero.core.nouns.base import Key, Name, Note, Noun, Timestamp, unknown_word
from portero.core.nouns.patterns import EVERYTHING, Pattern, normal_pattern
from portero.core.nouns.selector import Selector
from portero.core.nouns.service import Decision
from portero.core.nouns.urls import UrlPattern, WebHost, normal_range
from portero.core.nouns.web_taxonomy import TAXONOMY

RulesetKind = Literal["category", "indicator", "site", "startup"]
SELECTORS: dict[RulesetKind, tuple[str, ...]] = {
    "category": ("category", "family", "everything", "search_term", "media_type"),
    "indicator": ("host", "url", "address", "service", "suitability", "decision"),
    "site": ("pattern",),
    "startup": ("application_set", "sha256", "everything"),
}
"""The selectors of each kind of ruleset."""
KEYS = tuple(dict.fromkeys(name for names in SELECTORS.values() for name in names))

PatternReading = Literal["stricter", "left-out"]
"""What becomes of a site pattern in a browser that cannot say it."""

_MEDIA_TYPE = re.compile(r"^[a-z0-9!#$&^_.+-]+/([a-z0-9!#$&^_.+-]+|\*)$")


@lru_cache(maxsize=2)
def _public_suffixes(listed: bool) -> PublicSuffixList:
    return PublicSuffixList(accept_unknown=not listed)


def is_public_suffix(host: str, listed: bool = False) -> bool:
    """Whether anybody may register names below the host (the Public Suffix List). A name without a dot that is not on
    the list is taken for one, unless it has to be `listed`.
    """
    return not host.startswith("[") and bool(_public_suffixes(listed).is_public(host))


def registrable_domain(host: str) -> str:
    """The domain below a public suffix that a host is in: “harbour.example” for www.harbour.example; else itself."""
    found: str | None = _public_suffixes(False).privatesuffix(host)
    return found or host


OF_EVERYBODY = (
    "is a public suffix, below which anybody may have a site, and cannot be allowed as a whole; name single hosts"
)


def normal_term(text: str) -> str:
    """A search term with case and spacing folded."""
    return " ".join(text.casefold().split())


def normal_media_type(text: str) -> str:
    """A media type or range (RFC 9110, 8.3.1): lower case, parameters dropped. ValueError where it is none."""
    value = text.partition(";")[0].strip().lower()
    if not _MEDIA_TYPE.match(value):
        raise ValueError(f"“{text[:60]}” is not a media type; write it as in video/mp4 or video/*")
    return value


class Suitability(Noun):
    """Bounds of a service's suitability, both inclusive; 0 is worst, 100 best."""

    model_config = ConfigDict(populate_by_name=True, serialize_by_alias=True)
    from_: Annotated[int | None, Field(alias="from", ge=0, le=100)] = None
    to: Annotated[int | None, Field(ge=0, le=100)] = None

    @model_validator(mode="after")
    def _fits(self) -> Self:
        if self.from_ is None and self.to is None:
            raise ValueError("suitability needs one of from, to")
        if self.from_ is not None and self.to is not None and self.from_ > self.to:
            raise ValueError(f"no suitability is at least {self.from_} and at most {self.to}; swap the two")
        return self


class Rule(Noun):
    """One selector, given by the one key that names it, and one action.

    At `valid_until` the rule is over. `exact` goes with `host` and `url`.
    """

    category: Key | None = None
    family: Key | None = None
    everything: Literal[True] | None = None
    search_term: Annotated[str, StringConstraints(min_length=1, max_length=200)] | None = None
    media_type: Annotated[str, StringConstraints(max_length=150), AfterValidator(normal_media_type)] | None = None
    host: WebHost | None = None
    url: Annotated[str, StringConstraints(min_length=1, max_length=8192)] | None = None
    exact: Annotated[bool | None, Field(description="With host or url: only this very one.")] = None
    address: Annotated[str, StringConstraints(max_length=64)] | None = None
    service: Key | None = None
    suitability: Suitability | None = None
    decision: Decision | None = None
    pattern: Annotated[str, StringConstraints(min_length=1, max_length=2048)] | None = None
    reading: Annotated[
        PatternReading | None,
        Field(
            description="With pattern: what a browser gets that cannot say it, `stricter` or `left-out`. By default"
            " mandatory patterns are read more strictly, and others left out."
        ),
    ] = None
    application_set: Key | None = None
    sha256: Annotated[str, StringConstraints(pattern=r"^[0-9a-fA-F]{64}$", to_lower=True)] | None = None
    action: Action
    name: Name | None = None
    note: Note | None = None
    valid_until: Timestamp | None = None

    @field_validator("category")
    @classmethod
    def _known_category(cls, value: str | None) -> str | None:
        if value is not None and value not in TAXONOMY.categories:
            raise ValueError(unknown_word("category", value, TAXONOMY.categories))
        return value

    @field_validator("family")
    @classmethod
    def _known_family(cls, value: str | None) -> str | None:
        if value is not None and value not in TAXONOMY.by_family:
            raise ValueError(unknown_word("family", value, TAXONOMY.by_family))
        return value

    @field_validator("url")
    @classmethod
    def _visitable(cls, value: str | None) -> str | None:
        if value is not None:
            UrlPattern.of(value)
        return value

    @field_validator("address")
    @classmethod
    def _an_address(cls, value: str | None) -> str | None:
        if value is None:
            return None
        network = normal_range(value)
        return str(network.network_address if network.num_addresses == 1 else network)

    @field_validator("pattern")
    @classmethod
    def _taken_by_browsers(cls, value: str | None) -> str | None:
        if value is None:
            return None
        Pattern.of(value)
        # kept as it was written: what is made of it is told
        return value.strip()

    @model_validator(mode="after")
    def _fits(self) -> Self:
        given = [name for name in KEYS if getattr(self, name) is not None]
        if len(given) != 1:
            told = f"this one names {' and '.join(given)}" if given else "this one names none"
            raise ValueError(f"a rule names exactly one thing that it matches, and {told}")
        if self.exact is not None and given[0] not in ("host", "url"):
            raise ValueError(f"“exact” goes with host and url, not with {given[0]}")
        if self.reading is not None and given[0] != "pattern":
            raise ValueError(f"“reading” goes with pattern, not with {given[0]}")
        if self.action is Action.ALLOW:
            host = UrlPattern.of(self.url, bool(self.exact)).host if self.url else self.host
            # by itself alone a name without a dot may well be a host inside
            if host and is_public_suffix(host, listed=bool(self.exact or self.url)):
                raise ValueError(f"“{host}” {OF_EVERYBODY}")
        return self

    @property
    def names_everything(self) -> bool:
        """Whether it is for whatever else there is."""
        return self.everything is not None or self.selector == ("pattern", EVERYTHING, False)

    @cached_property
    def names_path(self) -> bool:
        """Whether it is for part of a host: a URL with a path or a query, which https hides."""
        return self.url is not None and not UrlPattern.read(self.selector.value, self.selector.exact).is_whole_host

    @cached_property
    def host_named(self) -> str | None:
        """The host, or the address as it stands in a URL, that it names: by host, URL or site pattern."""
        if self.url is not None:
            return UrlPattern.read(self.selector.value, self.selector.exact).host
        if self.pattern is not None:
            return Pattern.of(self.pattern).host or None
        return self.host

    @cached_property
    def selector(self) -> Selector:
        """What it matches, normalised: within a ruleset a rule is known by it."""
        if self.url is not None:
            pattern = UrlPattern.of(self.url, bool(self.exact))
            return Selector("url", str(pattern), pattern.exact)
        if self.suitability is not None:
            bounds = (self.suitability.from_, self.suitability.to)
            return Selector("suitability", "..".join("" if bound is None else str(bound) for bound in bounds))
        if self.search_term is not None:
            return Selector("search_term", normal_term(self.search_term))
        if self.pattern is not None:
            return Selector("pattern", normal_pattern(self.pattern))
        kind = next(name for name in KEYS if getattr(self, name) is not None)
        return Selector(kind, "" if kind == "everything" else str(getattr(self, kind)), bool(self.exact))

"""What differs between two states of an estate, object by object."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from portero.core.by_identity import ByIdentity
from portero.core.nouns.base import Noun
from portero.core.nouns.estate import NOUNS, PARTS, Estate
from portero.core.nouns.registry import AuthoredNoun
from portero.core.nouns.revision import Change
from portero.core.nouns.ruleset import Ruleset


def document_of(noun: Noun) -> dict[str, Any]:
    """The noun as it stands in an estate document: JSON values, nothing that was left out."""
    return noun.model_dump(mode="json", exclude_none=True)


def differences(before: Estate, after: Estate) -> Iterator[Change]:
    """Every object that `after` makes, alters or removes. The change of a part that there is one of carries the part
    under its own name.
    """
    for noun in NOUNS.values():
        if noun.of(before) is not noun.of(after):
            yield from _of_noun(noun, before, after)
    old, new = (estate.model_dump(mode="json", include=set(PARTS)) for estate in (before, after))
    for name in PARTS:
        if old[name] != new[name]:
            yield Change(noun=name, key=name, verb="changed", before={name: old[name]}, after={name: new[name]})


def _both_documents(was: Noun, one: Noun) -> tuple[dict[str, Any], dict[str, Any]]:
    """Both as they stand in a document. Of a ruleset nearly all rules stay: they are written once."""
    if not isinstance(was, Ruleset) or not isinstance(one, Ruleset):
        return document_of(was), document_of(one)
    had, has = _documents.of(was), document_of(one.model_copy(update={"rules": ()}))
    written = {id(rule): told for rule, told in zip(was.own_rules, had["rules"], strict=True)}
    has["rules"] = [written.get(id(rule)) or document_of(rule) for rule in one.own_rules]
    # the next change begins with it
    return had, _documents.keep(one, has)


_documents: ByIdentity[Ruleset, dict[str, Any]] = ByIdentity(document_of)


def _of_noun(noun: AuthoredNoun, before: Estate, after: Estate) -> Iterator[Change]:
    had, has, _ = noun.differing(before, after)
    old, new = ({noun.key_of(one): one for one in some} for some in (had, has))
    for key, one in new.items():
        was = old.get(key)
        if was is None:
            yield Change(noun=noun.word, key=key, verb="created", after=document_of(one))
        elif was is not one and was != one:
            # what a ruleset has of address lists may be all that differs, and that is not written there
            document, then = _both_documents(was, one)
            if document != then:
                yield Change(noun=noun.word, key=key, verb="changed", before=document, after=then)
    for key, one in old.items():
        if key not in new:
            yield Change(noun=noun.word, key=key, verb="removed", before=document_of(one))

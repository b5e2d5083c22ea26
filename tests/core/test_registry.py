"""The registry of what administrators author: a noun that is not declared as it stands is refused at once."""

from __future__ import annotations

from typing import ClassVar

import pytest
from pydantic import BaseModel

from portero.core.nouns.base import Key, Noun
from portero.core.nouns.estate import NOUNS, PARTS, Estate
from portero.core.nouns.registry import Authored, Declared, nouns_of, parts_of


class Berth(Authored):
    declared: ClassVar = Declared("berth", "berths")
    key: Key


class Bare(Noun):
    key: Key


class Harbour(BaseModel):
    version: int = 1
    berths: tuple[Berth, ...] = ()
    name: str = ""


class ElsewhereHarbour(BaseModel):
    quays: tuple[Berth, ...] = ()


class BareHarbour(BaseModel):
    bares: tuple[Bare, ...] = ()


def test_each_list_of_a_document_is_a_noun_and_all_else_a_part():
    assert list(nouns_of(Harbour)) == ["berth"]
    assert parts_of(Harbour, beside=("version",)) == {"name": "author"}
    assert {noun.list for noun in NOUNS.values()} | PARTS.keys() | {"portero"} == set(Estate.model_fields)


def test_a_list_of_what_declares_no_noun_or_another_list_is_refused():
    with pytest.raises(TypeError, match="is no Authored noun"):
        nouns_of(BareHarbour)
    with pytest.raises(TypeError, match="declared as berth of berths, and stands in quays"):
        nouns_of(ElsewhereHarbour)


def test_what_is_shown_of_an_object_has_its_version():
    berth = nouns_of(Harbour)["berth"]
    assert berth.shown(key="quay-1", version=3).model_dump() == {"key": "quay-1", "version": 3}
    for noun in NOUNS.values():
        assert "version" in noun.shown.model_fields, noun.word
        assert "version" in noun.listed.model_fields, noun.word


def test_an_object_is_named_alike_by_itself_and_by_its_document():
    row = {
        "control": "filter",
        "browser": "Brook",
        "http": "page",
        "https": "host",
        "date": "2026-01-01",
        "source": "x",
    }
    noun = NOUNS["coverage row"]
    assert noun.key_in(row) == noun.key_of(noun.model.model_validate(row)) == "filter/brook/any"

"""A bundle taken apart and put together again: the same, with what is shared made once."""

from __future__ import annotations

from typing import NamedTuple

import pytest

from made_estates import Maker
from portero.core.digests import digest_of
from portero.core.insight.brought_rules import filled
from portero.core.nouns.estate import Estate
from portero.core.resolving.bundles import Bundle, with_overlay
from portero.core.resolving.compiling import compile_bundle, compile_overlay
from portero.core.resolving.documents import (
    Document,
    Parts,
    Shelf,
    counterparts,
    in_parts,
    overlay_in_parts,
)
from thorough import times

FLEET = ("whole-fleet",)


class Taken(NamedTuple):
    document: Document
    parts: Parts


def taken_apart(bundle: Bundle) -> Taken:
    parts = Parts()
    return Taken(in_parts(bundle, parts), parts)


def reading(*taken: Taken):
    """Gives their parts, each by its digest."""
    parts = {digest: part() for one in taken for digest, part in one.parts.items()}
    assert all(digest_of(written) == digest for digest, written in parts.items())
    return parts.__getitem__


def estate_of(**parts) -> Estate:
    return filled(Estate.model_validate({"portero": 1, **parts}), {})


def indicators(*hosts: str, key: str = "hosts", action: str = "block", **more) -> dict:
    rules = [{"host": host, "action": action} for host in hosts]
    return {"key": key, "kind": "indicator", "rules": rules, **more}


def to(key: str, *targets: str, name: str = "", **more) -> dict:
    return {"key": name or f"{key}-{targets[0]}", "ruleset": key, "to": list(targets), **more}


@pytest.mark.parametrize("seed", range(times(60, 400)))
def test_what_was_taken_apart_is_put_together_again(seed):
    maker = Maker(seed)
    estate = Estate.model_validate(maker.estate())
    classes = [estate.group_order, estate.group_order[-2:], FLEET]
    shelf = Shelf()
    for groups in classes:
        bundle = compile_bundle(estate, groups)
        taken = taken_apart(bundle)
        assert set(taken.document.parts) == set(taken.parts)
        assert shelf.bundle(taken.document, reading(taken)) == bundle
    for name in sorted(estate.named_devices):
        overlay = compile_overlay(estate, FLEET, (name,))
        if overlay is None:
            continue
        base = taken_apart(compile_bundle(estate, FLEET))
        own = overlay_in_parts(overlay, base.parts)
        read = reading(base)
        found = shelf.overlay(own, read)
        assert found == overlay
        whole = compile_bundle(estate, FLEET, (name,))
        assert with_overlay(shelf.bundle(base.document, read), found).assignments == whole.assignments


def test_one_rule_more_is_one_part_and_the_documents_that_name_it():
    groups = [{"key": key, "pins": {}} for key in ("ships", "office")]
    rulesets = [indicators("a.example"), indicators("b.example", key="own")]
    assigned = [to("hosts", "whole-fleet"), to("own", "ships")]
    before = estate_of(groups=groups, rulesets=rulesets, assignments=assigned)
    rulesets[1] = indicators("b.example", "c.example", key="own")
    after = estate_of(groups=groups, rulesets=rulesets, assignments=assigned)
    classes = [("ships", *FLEET), ("office", *FLEET)]
    had, has = ([taken_apart(compile_bundle(one, groups)) for groups in classes] for one in (before, after))
    (gone,), (new,) = had[0].parts.keys() - has[0].parts.keys(), has[0].parts.keys() - had[0].parts.keys()
    assert counterparts(had[0].document, has[0].document) == {new: gone}
    assert has[1].document == had[1].document


def test_an_action_above_those_of_a_ruleset_stands_in_the_document_and_its_rules_are_shared():
    made = estate_of(
        groups=[{"key": "ships", "pins": {}}],
        rulesets=[indicators("a.example", "b.example")],
        assignments=[to("hosts", "whole-fleet"), to("hosts", "ships", action="log")],
    )
    taken = taken_apart(compile_bundle(made, ("ships", *FLEET)))
    assert len(taken.parts) == 1
    assert [one.override for one in taken.document.assignments] == [None, "log"]
    plain, logged = Shelf().bundle(taken.document, reading(taken)).assignments
    assert [rule.action for rule in plain.rules] == ["block", "block"]
    assert [rule.action for rule in logged.rules] == ["log", "log"]


def test_what_an_address_list_brings_is_a_part_that_rulesets_share():
    lists = [{"key": "harbour", "addresses": ["x.example", "y.example"]}]
    include = {"includes": [{"address_list": "harbour", "action": "block"}]}
    made = estate_of(
        address_lists=lists,
        rulesets=[indicators("a.example", **include), indicators("b.example", key="own", **include)],
        assignments=[to("hosts", "whole-fleet"), to("own", "whole-fleet")],
    )
    first, second = taken_apart(compile_bundle(made, FLEET)).document.assignments
    assert first.rules[1] == second.rules[1]
    assert first.rules[0] != second.rules[0]
    rules = compile_bundle(made, FLEET).assignments[1].rules
    assert [rule.number for rule in rules] == [1, 2, 3]


def test_classes_and_estates_share_what_is_made_of_a_part():
    made = estate_of(
        groups=[{"key": "ships", "pins": {}}],
        rulesets=[indicators("a.example")],
        assignments=[to("hosts", "whole-fleet")],
    )
    shelf, found = Shelf(), []
    for groups in (FLEET, ("ships", *FLEET)):
        taken = taken_apart(compile_bundle(made, groups))
        found.append(shelf.bundle(taken.document, reading(taken)).assignments[0].rules)
    assert found[0] is found[1]
    shelf.forget()
    assert shelf.bundle(taken.document, reading(taken)).assignments[0].rules is not found[0]


def test_a_shelf_keeps_so_much_and_no_more(monkeypatch):
    monkeypatch.setattr(Shelf, "MOST", 50)
    shelf, asked = Shelf(), []
    documents: list[Document] = []
    for number in range(8):
        hosts = [f"{number}-{place}.example" for place in range(20)]
        taken = taken_apart(
            compile_bundle(estate_of(rulesets=[indicators(*hosts)], assignments=[to("hosts", "whole-fleet")]), FLEET)
        )
        parts = reading(taken)

        def read(digest: str, parts=parts) -> bytes:
            asked.append(digest)
            return parts(digest)

        documents.append(taken.document)
        shelf.bundle(taken.document, read)
    assert len(asked) == 8
    shelf.bundle(documents[-1], read)
    assert len(asked) == 8, "the last one is on the shelf still"
    with pytest.raises(KeyError):
        shelf.bundle(documents[0], read)

"""Documents and wire formats: what is good comes through, what is bad is told with its place."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from portero.core.nouns.estate import Estate
from portero.core.resolving.compiling import compile_bundle
from portero.formats.bundles import pack_bundle, read_bundle
from portero.formats.category_index import SHIPPED_INDEX, read_index
from portero.formats.estate_document import read_estate, read_facts
from portero.formats.manifests import (
    Manifest,
    key_to_text,
    new_signing_key,
    open_manifest,
    public_text_of,
    sign_manifest,
)
from portero.formats.packing import MAX_BUNDLE_BYTES, BadBundle, apply_difference
from portero.formats.places import MAX_BYTES, BadDocument

GOOD = """
portero: 1
precedence: [bridge]
groups:
  - key: ships
    members: {all: [{field: unit, op: under, value: brackwater/ships}]}
  - key: bridge
rulesets:
  - key: quiet
    kind: category
    rules:
      - {category: music, action: block, note: "cost"}
assignments:
  - {ruleset: quiet, to: ships}
  - {ruleset: quiet, to: [ships, bridge], action: log}
  - {key: own, ruleset: quiet, to: [whole-fleet], mandatory: true, state: draft}
corrections:
  - {host: Crew-Rota.example., categories: [productivity]}
"""


def problems(text: str | bytes, read=read_estate) -> list[str]:
    with pytest.raises(BadDocument) as told:
        read(text.encode() if isinstance(text, str) else text)
    return [str(problem) for problem in told.value.problems]


def test_a_document_reads_and_its_assignments_get_keys():
    estate = read_estate(GOOD.encode())
    assert [assignment.key for assignment in estate.assignments] == ["quiet--ships", "quiet--ships--2", "own"]
    assert estate.group_order == ("bridge", "ships", "unclaimed", "whole-fleet")
    assert estate.corrections[0].host == "crew-rota.example"


def test_json_is_read_as_yaml_is():
    assert read_estate(b'{"portero": 1, "groups": [{"key": "a"}]}').groups[0].key == "a"


@pytest.mark.parametrize(
    ("before", "after", "expected"),
    [
        ("members:", "membrs:", "line 6, column 5: unknown key “membrs”; did you mean “members”?"),
        (
            "category: music",
            "category: musik",
            "line 12, column 10: there is no category “musik”; did you mean “music”?",
        ),
        ("action: block", "action: stop", "“stop” is none of allow, warn, block or log"),
        ("to: ships", "to: shps", "there is no group “shps”; did you mean “ships”?"),
        (
            "{ruleset: quiet, to: ships}",
            "{ruleset: quite, to: ships}",
            "there is no ruleset “quite”; did you mean “quiet”?",
        ),
        ("- key: bridge", "- key: ships", "“ships” stands twice"),
        ("kind: category", "kind: category\n    kind: category", "the key “kind” stands twice"),
        ("key: quiet\n", "key: Quiet!\n", "“Quiet!” is no key"),
        ("portero: 1", "portero: 2", "2 is none of 1"),
        ("portero: 1", "portray: 1", "it must begin with “portero: 1”"),
        ("precedence: [bridge]", "precedence: [bridge", "not YAML"),
        ("Crew-Rota.example.", "crew rota", "is not a web host"),
        ("Crew-Rota.example.", "games.category.test", "is a test host and always keeps its category"),
    ],
)
def test_each_mistake_is_told_with_its_place_and_the_nearest_right_thing(before, after, expected):
    assert before in GOOD
    told = problems(GOOD.replace(before, after, 1))
    assert any(expected in problem for problem in told), told
    assert all("line" in problem for problem in told)


def test_hostile_documents_end_in_an_error_within_bounds():
    deep = "portero: 1\na: " + "[" * 5000
    assert any("nested" in problem or "not YAML" in problem for problem in problems(deep))
    bomb = "portero: 1\na: &a [x,x,x,x,x,x,x,x,x,x]\n" + "".join(
        f"{chr(98 + n)}: &{chr(98 + n)} [{','.join(['*' + chr(97 + n)] * 10)}]\n" for n in range(8)
    )
    assert any("aliases" in problem for problem in problems(bomb))
    assert "MB" in problems(b" " * (MAX_BYTES + 1))[0]
    assert "UTF-8" in problems(b"portero: 1\nname: \xff\xfe")[0]


@settings(max_examples=150)
@given(st.binary(max_size=300))
def test_any_bytes_are_read_or_refused(data):
    for read in (read_estate, read_facts, read_index):
        try:
            read(data)
        except BadDocument as refused:
            told = refused.problems
            assert told


def test_facts_are_read_and_checked():
    facts = read_facts(b"portero_facts: 1\ndevices: [{hostname: A-1, kind: kiosk, labels: {wave: first}}]")
    assert (facts.devices[0].hostname, facts.devices[0].labels) == ("a-1", {"wave": "first"})
    told = problems(
        "portero_facts: 1\ndevices: [{hostname: a, zone: Mars/Base, addresses: [1.2.3]}, {hostname: a}]", read_facts
    )
    assert any("Mars/Base" in problem for problem in told)
    assert any("1.2.3" in problem for problem in told)


def test_the_index_tells_every_bad_line_and_the_shipped_one_is_good():
    told = problems("host,categories\ngood.example,news\nbad.example,nwes\nnot a host,news\nlone.example\n", read_index)
    assert [problem.partition(":")[0] for problem in told] == [
        "line 3, column 1",
        "line 4, column 1",
        "line 5, column 1",
    ]
    assert "did you mean “news”?" in told[0]
    index = read_index(SHIPPED_INDEX.read_bytes())
    assert index.get("lucky-reef.example") == ("gambling",)
    assert len(index) > 300


BUNDLE = compile_bundle(read_estate(GOOD.encode()), ("ships", "whole-fleet"))


def test_a_bundle_comes_through_and_is_named_by_what_it_says():
    packed = pack_bundle(BUNDLE)
    assert read_bundle(packed.packed, packed.digest) == BUNDLE
    assert pack_bundle(compile_bundle(read_estate(GOOD.encode()), ("ships", "whole-fleet"))).digest == packed.digest
    assert pack_bundle(compile_bundle(Estate(), ("whole-fleet",))).digest != packed.digest


@given(st.integers(0, 10_000), st.integers(1, 255))
def test_an_altered_bundle_is_never_taken(place, flip):
    packed = pack_bundle(BUNDLE)
    altered = bytearray(packed.packed)
    altered[place % len(altered)] ^= flip
    try:
        taken = read_bundle(bytes(altered), packed.digest)
    except BadBundle:
        return
    assert taken == BUNDLE  # the change was in a part that says nothing


@pytest.mark.parametrize("claimed", [MAX_BUNDLE_BYTES + 1, 1 << 40, (1 << 64) - 3])
def test_a_bundle_that_claims_to_be_huge_takes_no_memory(claimed):
    # a frame as RFC 8878 writes it: one segment, its size in eight bytes, an empty last block
    boasting = b"\x28\xb5\x2f\xfd\xe0" + claimed.to_bytes(8, "little") + b"\x01\x00\x00"
    with pytest.raises(BadBundle, match="larger than 64 MB"):
        read_bundle(boasting, "sha256:x")
    with pytest.raises(BadBundle, match="difference says that it is larger"):
        apply_difference(pack_bundle(BUNDLE).packed, boasting, "sha256:x")


def test_only_a_manifest_signed_by_the_pinned_key_is_opened():
    key, other = (key_to_text(new_signing_key()) for _ in range(2))
    manifest = Manifest(1, "sha256:x", 1, 7, "2026-12-01T00:00:00Z", "sha256:y")
    token = sign_manifest(manifest, key)
    assert open_manifest(token, public_text_of(key)) == manifest
    header, payload, signature = token.split(".")
    unsigned = "eyJhbGciOiJub25lIn0." + payload + "."
    for bad in (
        token[:-4] + "AAAA",
        unsigned,
        f"{header}.{payload[:-2]}.{signature}",
        "x",
        sign_manifest(manifest, other),
    ):
        with pytest.raises(BadBundle):
            open_manifest(bad, public_text_of(key))

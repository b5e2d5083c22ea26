"""Watched folders: what lies in them becomes a member, once, and nothing else does."""

from __future__ import annotations

import pytest

from portero.core import sentences
from portero.core.insight.watching import found_in_folders, is_below, with_found
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.device import Application
from portero.core.nouns.estate import Estate
from portero.core.resolving.compiling import compile_bundle

A, B, C = ("a" * 64, "b" * 64, "c" * 64)


def watching(*include: dict, **more: object) -> Estate:
    watches = [{"device": "drop-01", "folder": "/srv/unwanted/"}]
    one = {"key": "unwanted", "include": include, "watches": watches, **more}
    rules = [{"application_set": "unwanted", "action": "block"}]
    return Estate.model_validate(
        {
            "application_sets": [one],
            "rulesets": [{"key": "r", "kind": "startup", "rules": rules}],
            "assignments": [{"key": "a", "ruleset": "r", "to": ["whole-fleet"]}],
        }
    )


def test_what_lies_in_the_folder_is_taken_in_once():
    programs = [
        Application(path="/srv/unwanted/carry", sha256=A, product="Quick Carry", version="1.9"),
        Application(path="/srv/unwanted/below/carry", sha256=A),
        Application(path="/srv/unwanted/known", sha256=B),
        Application(path="/srv/unwanted-not/tool", sha256=C),
        Application(path="/srv/unwanted/unread"),
    ]
    estate = watching({"sha256": B})
    found = found_in_folders(estate, lambda name: programs if name == "drop-01" else [])
    assert [(one.set, sentences.program_words(one.program)) for one in found] == [("unwanted", "Quick Carry 1.9")]
    after = with_found(estate, found)
    assert [one.sha256 for one in after.application_sets[0].include] == [B, A]
    assert found_in_folders(after, lambda _name: programs) == []
    assert with_found(after, found) == after


def test_other_machines_are_not_looked_at_and_a_full_set_takes_no_more():
    assert found_in_folders(watching(), lambda _name: []) == []
    full = watching(*({"sha256": f"{number:064x}"} for number in range(2_000)))
    assert found_in_folders(full, lambda _name: [Application(path="/srv/unwanted/x", sha256=A)]) == []


@pytest.mark.parametrize(
    ("path", "folder", "below"),
    [
        ("/srv/a/b", "/srv/a", True),
        ("/srv/ab", "/srv/a", False),
        ("/srv/a", "/srv/a", False),
        ("C:\\Drop\\Setup.exe", "c:\\drop\\", True),
        ("C:\\Dropped\\Setup.exe", "c:\\drop", False),
        ("/SRV/a/b", "/srv/a", False),
        (None, "/", False),
    ],
)
def test_what_lies_below_a_folder(path, folder, below):
    assert is_below(path, folder) is below


def test_a_frozen_set_watches_nothing_a_folder_is_whole_and_machines_are_not_told():
    with pytest.raises(ValueError, match="a frozen set watches no folder"):
        ApplicationSet.model_validate(
            {"key": "x", "following": False, "watches": [{"device": "drop-01", "folder": "/srv"}]}
        )
    with pytest.raises(ValueError, match="no whole path"):
        ApplicationSet.model_validate({"key": "x", "watches": [{"device": "drop-01", "folder": "srv"}]})
    estate = watching()
    told = sentences.application_set_sentence(estate.application_sets[0])
    assert told.endswith("takes in what is found later and what is put into /srv/unwanted/ on drop-01.")
    assert "watches" not in compile_bundle(estate, ("whole-fleet",)).references.application_sets["unwanted"]

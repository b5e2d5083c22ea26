"""The endpoint's own policy file of a browser: kept as it should be, whatever somebody does to it."""

from __future__ import annotations

import itertools
import json
import os
from datetime import UTC, datetime
from pathlib import Path

import pytest

from portero.core.digests import digest_of
from portero.core.insight.site_lists import list_of_ruleset
from portero.core.nouns.browser_policy import PolicyFileState
from portero.core.nouns.coverage import CoverageTable
from portero.core.nouns.ruleset import Ruleset
from portero.endpoint.browsers import policy_file
from portero.endpoint.browsers.installed import Installed
from portero.endpoint.browsers.managed import RECORD, ManagedBrowsers
from portero.endpoint.browsers.policy_file import Kept, Others, OwnFile, others_of, remove_own
from portero.endpoint.folder import Folder

LIST, NEWER = b'{"URLBlocklist": ["a.example"]}\n', b'{"URLBlocklist": ["b.example"]}\n'
NOW = 1_000.0


@pytest.fixture
def path(tmp_path: Path) -> Path:
    return tmp_path / "policies" / "managed" / "portero.json"


def kept(path: Path, family="chromium", wanted: bytes | None = LIST) -> OwnFile:
    """A file that was written some time ago."""
    file = OwnFile(family, path, None)
    file.keep(wanted, NOW - 500, [])
    return file


def whats(noticed) -> list[str]:
    return [one.what for one in noticed]


def test_it_is_written_whole_for_all_to_read_and_only_when_it_is_another(path):
    file = OwnFile("chromium", path, None)
    assert whats(file.keep(LIST, NOW, [])) == ["written"]
    assert (path.read_bytes(), path.stat().st_mode & 0o777) == (LIST, 0o644)
    before = path.stat().st_mtime_ns
    assert file.keep(LIST, NOW + 1, []) == []
    assert path.stat().st_mtime_ns == before
    assert whats(file.keep(NEWER, NOW + 2, [])) == ["written"]
    assert [one.name for one in path.parent.iterdir()] == [path.name], "nothing is left beside it"
    assert whats(file.keep(None, NOW + 3, [])) == ["removed"]
    assert not path.exists()
    assert file.keep(None, NOW + 4, []) == []


def edited(path: Path) -> None:
    path.write_bytes(b"{}")


def emptied_by_link(path: Path) -> None:
    path.unlink()
    path.symlink_to("/dev/null")


def pipe(path: Path) -> None:
    path.unlink()
    os.mkfifo(path)


@pytest.mark.parametrize(
    ("what", "done"),
    [
        ("edited", edited),
        ("removed", Path.unlink),
        ("closed", lambda path: path.chmod(0o600)),
        ("closed", lambda path: path.chmod(0o666)),
        ("edited", emptied_by_link),
        ("edited", pipe),
    ],
)
def test_what_somebody_does_to_it_is_put_right_and_told(path, what, done):
    file = kept(path)
    done(path)
    assert whats(file.keep(LIST, NOW, [])) == ["tampered"]
    assert path.is_file()
    assert not path.is_symlink()
    assert (path.read_bytes(), path.stat().st_mode & 0o777) == (LIST, 0o644)
    assert (file.kept.tampered, file.kept.tampered_at, file.state) == (what, NOW, PolicyFileState.KEPT)
    assert file.keep(LIST, NOW + 1, []) == []


def test_what_is_edited_while_the_endpoint_is_off_is_noticed_at_the_next_start(path):
    remembered = kept(path).kept
    edited(path)
    assert whats(OwnFile("chromium", path, remembered).keep(NEWER, NOW, [])) == ["tampered", "written"]


def test_something_that_keeps_writing_it_is_left_alone_for_longer_and_longer(path):
    file, mended = kept(path), []
    for second in range(900):
        edited(path)
        if file.keep(LIST, NOW + second, []):
            mended.append(second)
    assert mended[:5] == [0, 1, 2, 3, 4]
    gaps = [after - before for before, after in itertools.pairwise(mended[4:])]
    assert gaps == sorted(gaps)
    assert gaps[0] >= policy_file.FIRST_PAUSE
    assert len(mended) < 15
    assert file.state is PolicyFileState.CONTESTED
    # it is at peace again once nobody has written it for a while
    later = NOW + 900 + 2 * policy_file.LONGEST_PAUSE
    file.keep(LIST, later, [])
    file.keep(LIST, later + policy_file.LONGEST_PAUSE + 1, [])
    assert file.state is PolicyFileState.KEPT


def test_a_file_that_was_there_before_is_not_touched_and_taken_over_once_it_is_gone(tmp_path):
    path = tmp_path / "policies.json"
    path.write_text('{"policies": {"DisableTelemetry": true}}')
    file = OwnFile("firefox", path, None)
    assert file.keep(LIST, NOW, []) == []
    assert file.state is PolicyFileState.FOREIGN
    assert "DisableTelemetry" in path.read_text()
    assert file.keep(None, NOW + 1, []) == []
    assert file.state is PolicyFileState.KEPT, "where no list is in force nobody is in its way"
    assert path.exists()
    path.unlink()
    assert whats(file.keep(LIST, NOW + 2, [])) == ["written"]
    assert file.state is PolicyFileState.KEPT


def test_one_with_its_own_name_or_its_own_content_is_taken_for_its_own(path, tmp_path):
    path.parent.mkdir(parents=True)
    path.write_bytes(b"of an earlier life")
    assert whats(OwnFile("chromium", path, None).keep(LIST, NOW, [])) == ["written"]
    same = tmp_path / "policies.json"
    same.write_bytes(LIST)
    file = OwnFile("firefox", same, None)
    file.keep(LIST, NOW, [])
    assert (file.state, file.kept.digest) == (PolicyFileState.KEPT, digest_of(LIST))


def test_where_it_cannot_be_written_it_says_so_once_and_goes_on_trying(tmp_path):
    (tmp_path / "policies").write_text("a file where a folder should be")
    file = OwnFile("chromium", tmp_path / "policies" / "portero.json", None)
    assert whats(file.keep(LIST, NOW, [])) == ["unwritten"]
    assert file.keep(LIST, NOW + 1, []) == []
    assert (file.state, file.problem) == (PolicyFileState.UNWRITTEN, "Not a directory")
    (tmp_path / "policies").unlink()
    assert whats(file.keep(LIST, NOW + 2, [])) == ["written"]
    assert file.state is PolicyFileState.KEPT


def test_a_full_disk_leaves_the_earlier_list_in_force(path, monkeypatch):
    file = kept(path)

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(policy_file, "replace_whole", full)
    (noticed,) = file.keep(NEWER, NOW, [])
    assert (noticed.what, file.problem) == ("unwritten", "there is no room left on its disk")
    assert path.read_bytes() == LIST


def test_a_change_is_made_again_for_a_chromium_that_had_just_started(path):
    file = kept(path)
    file.keep(NEWER, NOW, started := [NOW - 2])
    written = path.stat().st_mtime_ns
    file.keep(NEWER, NOW + 2, started)
    assert path.stat().st_mtime_ns == written, "it may still be starting"
    file.keep(NEWER, NOW + 5, started)
    assert path.stat().st_mtime_ns > written
    assert file.kept.written_at == NOW + 5
    file.keep(NEWER, NOW + 20, started)
    assert file.kept.written_at == NOW + 5, "once is enough"


def test_only_a_firefox_has_to_be_started_again(path):
    for family, needed in (("chromium", False), ("firefox", True)):
        file = kept(path.with_name(family), family)
        assert file.restart_needed([NOW - 1_000]) is needed
        assert file.restart_needed([NOW]) is False
        assert file.restart_needed([]) is False


def test_on_leaving_only_what_is_as_it_was_written_is_removed(path):
    remembered = kept(path).kept
    assert remove_own(path, Kept("sha256:another", 0)) is False
    assert path.exists()
    assert remove_own(path, remembered) is True
    assert remove_own(path, remembered) is False


@pytest.mark.parametrize(
    ("name", "text", "counts"),
    [
        ("zz.json", {"URLBlocklist": []}, True),
        ("zz.json", {"URLAllowlist": ["x.example"]}, True),
        ("aa.json", {"URLBlocklist": []}, False),
        ("zz.json", {"HomepageLocation": "http://x.example/"}, None),
        ("zz.json", "{broken", None),
        ("zz.json", ["no mapping"], None),
        ("zz.json", "[" * 100_000, None),
        ("../recommended/x.json", {"URLBlocklist": []}, False),
    ],
)
def test_files_of_others_beside_chromiums(path, name, text, counts):
    kept(path)
    other = path.parent / name
    other.parent.mkdir(exist_ok=True)
    other.write_text(text if isinstance(text, str) else json.dumps(text))
    found = others_of("chromium", path, Path("/usr/bin/chromium"))
    told = str(path.parent.parent / "recommended" / "x.json") if ".." in name else str(other)
    assert found == {True: Others((told,), ()), False: Others((), (told,)), None: Others()}[counts]


def test_where_another_file_has_chromium_merge_lists_an_earlier_one_counts_too(path):
    kept(path)
    earlier = path.parent / "aa.json"
    earlier.write_text(json.dumps({"URLBlocklist": [], "PolicyListMultipleSourceMergeList": ["URLBlocklist"]}))
    assert others_of("chromium", path, Path("/usr/bin/chromium")).counting == (str(earlier),)


def test_the_file_in_firefoxs_own_folder_does_not_count_beside_the_systems(tmp_path):
    program = tmp_path / "firefox"
    program.touch()
    (tmp_path / "distribution").mkdir()
    own = tmp_path / "distribution" / "policies.json"
    own.write_text(json.dumps({"policies": {"WebsiteFilter": {"Block": []}}}))
    assert others_of("firefox", tmp_path / "policies.json", program) == Others((), (str(own),))
    own.write_text(json.dumps({"policies": {"DisableTelemetry": True}}))
    assert others_of("firefox", tmp_path / "policies.json", program) == Others()


def test_a_browser_that_is_installed_or_updated_later_is_found(tmp_path):
    here = [Installed("chromium", Path("/usr/bin/chromium"), "155.0")]
    browsers = ManagedBrowsers(Folder(tmp_path / "data"), tmp_path / "etc", lambda: list(here))
    browsers.look(None, CoverageTable(), NOW)
    here[:] = [
        Installed("chromium", Path("/usr/bin/chromium"), "156.0"),
        Installed("firefox", Path("/usr/bin/f"), None),
    ]
    browsers.look(None, CoverageTable(), NOW + 10)
    assert [(one.name, one.version) for one in browsers.facts] == [("chromium", "155.0")]
    browsers.look(None, CoverageTable(), NOW + 301)
    assert [(one.name, one.version) for one in browsers.facts] == [("chromium", "156.0"), ("firefox", None)]


def test_what_was_written_is_known_again_after_a_start_and_begun_anew_where_the_record_is_damaged(tmp_path):
    here = [Installed("firefox", Path("/usr/bin/firefox-esr"), "153.8")]
    listed = {"key": "a", "kind": "site", "rules": [{"pattern": "a.example", "action": "block"}]}
    merged = list_of_ruleset(Ruleset.model_validate(listed), datetime(2026, 11, 28, tzinfo=UTC))

    def started() -> ManagedBrowsers:
        return ManagedBrowsers(Folder(tmp_path / "data"), tmp_path / "etc", lambda: here)

    def noticed(browsers: ManagedBrowsers) -> list[str]:
        return whats(browsers.look(merged, CoverageTable(), NOW))

    assert noticed(started()) == ["written"]
    assert noticed(started()) == []
    own = tmp_path / "etc/firefox/policies/policies.json"
    own.write_text("{}")
    assert noticed(started()) == ["tampered"]
    (tmp_path / "data" / RECORD).write_text("{broken")
    assert noticed(again := started()) == ["written"], "as it should be: taken for its own"
    assert again.facts[0].policy.state is PolicyFileState.KEPT

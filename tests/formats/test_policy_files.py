"""The files by which browsers are handed their lists: what is written is read again, in every form."""

from __future__ import annotations

import json
import plistlib
import re

import pytest

from portero.core.digests import digest_of
from portero.formats.policy_files import policy_file

BLOCK = ("*", "a.example/b?k=v", '"quoted".example\\back', "xn--bcher-kva.example/%C3%A4")
ALLOW = ("tickets.example", ".a.example:8080/x&y<z>")


def registered(text: str) -> dict[str, list[str]]:
    """The lists of a registration file, by their keys, in the order of their numbers."""
    found: dict[str, list[str]] = {}
    for line in text.split("\r\n"):
        if line.startswith("[-"):
            # whatever was there before is gone
            found.pop(line[2:-1], None)
        elif line.startswith("["):
            key = line[1:-1]
            found[key] = []
        elif named := re.fullmatch(r'"(\d+)"="(.*)"', line):
            assert int(named[1]) == len(found[key]) + 1
            found[key].append(re.sub(r"\\(.)", r"\1", named[2]))
    return found


def lists(family: str, platform: str, data: bytes, encoding: str) -> tuple[list[str], list[str]]:
    if platform == "windows":
        found = registered(data.decode(encoding))
        return tuple(
            values for _, values in sorted(found.items(), key=lambda one: "Allow" in one[0] or "Exc" in one[0])
        )
    document = json.loads(data) if platform == "linux" else plistlib.loads(data)
    if family == "chromium":
        return document["URLBlocklist"], document["URLAllowlist"]
    filtered = (document if platform == "macos" else document["policies"])["WebsiteFilter"]
    return filtered["Block"], filtered["Exceptions"]


@pytest.mark.parametrize("family", ["chromium", "firefox"])
@pytest.mark.parametrize("platform", ["linux", "windows", "macos"])
def test_what_is_written_is_read_again(family, platform):
    file = policy_file(family, platform, BLOCK, ALLOW, "About -- it.", "there", "tried")
    data = file.text.encode(file.encoding)
    assert tuple(map(tuple, lists(family, platform, data, file.encoding))) == (BLOCK, ALLOW)
    assert ("About" in file.text) is (platform != "linux"), "JSON has no comments"
    if platform == "windows":
        assert data[:2] in (b"\xff\xfe", b"\xfe\xff")
        assert file.text.startswith("Windows Registry Editor Version 5.00\r\n")
        assert ("Mozilla" in file.text) is (family == "firefox")


def test_an_empty_list_empties_what_was_there():
    text = policy_file("chromium", "windows", (), (), "About it.").text
    assert registered(text) == {
        r"HKEY_LOCAL_MACHINE\SOFTWARE\Policies\Chromium\URLBlocklist": [],
        r"HKEY_LOCAL_MACHINE\SOFTWARE\Policies\Chromium\URLAllowlist": [],
    }


@pytest.mark.parametrize("platform", ["linux", "windows", "macos"])
@pytest.mark.parametrize("family", ["chromium", "firefox"])
def test_a_file_is_named_by_the_digest_of_its_bytes_and_ends_with_a_line(family, platform):
    file = policy_file(family, platform, ["a.example"], [], "about")
    assert file.digest == digest_of(file.text.encode(file.encoding))
    assert file.text.endswith("\n")
    assert policy_file(family, platform, [], [], "about").digest is None, "there is no file without a list"

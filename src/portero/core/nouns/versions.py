"""Versions of programs and systems: compared by their numeric parts."""

from __future__ import annotations

import re

VersionKey = tuple[tuple[int, ...], bool, tuple[tuple[int, str], ...]]
_VERSION = re.compile(r"v?(\d+(?:[._]\d+)*)(?:\+.*|([-~. ]?[a-z].*|[-~].*))?$", re.DOTALL)
_PIECE = re.compile(r"\d+|[a-z]+")
_LONGEST_NUMBER = 18


def version_key(text: str) -> VersionKey | None:
    """A key by which versions sort: `4.2` = `4.2.0`, `4.2-rc1` below `4.2`. None where there is no version in it."""
    found = _VERSION.match(text.strip().lower())
    if found is None:
        return None
    numbers = [int(part[-_LONGEST_NUMBER:]) for part in re.split(r"[._]", found[1])]
    while numbers and numbers[-1] == 0:
        numbers.pop()
    suffix = found[2] or ""
    pieces = tuple(
        (int(piece[-_LONGEST_NUMBER:]), "") if piece.isdigit() else (-1, piece) for piece in _PIECE.findall(suffix)
    )
    # a release stands above all that lead up to it
    return tuple(numbers), not suffix, pieces


def is_older(version: str | None, least: str | None) -> bool:
    """Whether a version is below the least one that is wanted. Where one of them is not known, nobody says so."""
    if version is None or least is None:
        return False
    have, need = version_key(version), version_key(least)
    return have is not None and need is not None and have < need

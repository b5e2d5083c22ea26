"""Cells of CSV that a spreadsheet would take for a formula: neutralised on the way out, and back again on the way in.

As CSV injection (CWE-1236) is warned of: a cell that begins with one of = + - @, a tab or a carriage return gets an
apostrophe before it. So does one that begins with apostrophes before such a sign, so that reading undoes writing
exactly.
"""

from __future__ import annotations

_SIGNS = ("=", "+", "-", "@", "\t", "\r")


def _is_risky(text: str) -> bool:
    return text.lstrip("'").startswith(_SIGNS)


def guarded(text: str) -> str:
    """The cell as it is written."""
    return "'" + text if _is_risky(text) else text


def unguarded(text: str) -> str:
    """The cell as it was before it was written."""
    return text[1:] if text.startswith("'") and _is_risky(text) else text

"""JSON merge patches (RFC 7396): what makes one document of another. Null stands for “not there”; no value is null."""

from __future__ import annotations

from typing import Any


def patch_between(before: dict[str, Any], after: dict[str, Any]) -> dict[str, Any]:
    """The patch that makes `after` of `before`."""
    patch: dict[str, Any] = dict.fromkeys(before.keys() - after.keys())
    for name, value in after.items():
        had = before.get(name)
        if isinstance(value, dict) and isinstance(had, dict):
            if inner := patch_between(had, value):
                patch[name] = inner
        elif name not in before or had != value:
            patch[name] = value
    return patch


def patched(document: Any, patch: dict[str, Any]) -> dict[str, Any]:
    """What the patch makes of a document, which stays as it is."""
    made = dict(document) if isinstance(document, dict) else {}
    for name, value in patch.items():
        if value is None:
            made.pop(name, None)
        elif isinstance(value, dict):
            made[name] = patched(made.get(name), value)
        else:
            made[name] = value
    return made

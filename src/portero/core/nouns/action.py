"""What a rule does, and what an attempt comes to."""

from __future__ import annotations

from enum import StrEnum


class Action(StrEnum):
    """What a rule says: let pass, warn first, stop, or only record."""

    ALLOW = "allow"
    WARN = "warn"
    BLOCK = "block"
    LOG = "log"


STOPPING = (Action.BLOCK, Action.WARN)
"""What stops an attempt, for good or until the person goes on."""


class Verdict(StrEnum):
    """What an attempt comes to. `log` is no verdict: it decides nothing."""

    ALLOW = "allow"
    WARN = "warn"
    BLOCK = "block"


class Override(StrEnum):
    """The one action an assignment may give to its whole ruleset."""

    LOG = "log"
    WARN = "warn"
    BLOCK = "block"


STRICTNESS: dict[str, int] = {"allow": 0, "warn": 1, "block": 2}
"""Rung 6: block over warn over allow."""


def overridden(action: Action, override: Override | None) -> Action:
    """The rule's action under its assignment's override: `log` turns all into log, others replace warn and block."""
    if override is None:
        return action
    if override is Override.LOG:
        return Action.LOG
    return Action(override) if action in STOPPING else action

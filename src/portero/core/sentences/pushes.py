"""Pushes in words."""

from __future__ import annotations

from collections.abc import Sequence

from portero.core.wording import counted, joined


def push_scope(named: Sequence[str], groups: Sequence[str], waiting: bool = False) -> str:
    """Which machines a push is meant for: “kiosk-07 and group kiosks”."""
    parts = list(named) if len(named) <= 3 else [counted(len(named), "machine")]
    parts += [f"group {group}" for group in groups]
    if waiting:
        parts.append("all that wait for something")
    return joined(parts)


def push_sentence(devices: int, waiting: int, told: int, fetched: int, applied: int, failed: int) -> str:
    """How far machines are: “14 of 16 machines hold what they should; 2 are out of reach …”"""
    if devices == applied == 1:
        return "The machine holds what it should."
    hold = "holds what it should" if devices == 1 else "hold what they should"
    parts = [f"{applied:,} of {counted(devices, 'machine')} {hold}"]
    if on_the_way := told + fetched:
        parts.append(f"{on_the_way:,} {'has' if on_the_way == 1 else 'have'} been told")
    if failed:
        parts.append(f"{failed:,} could not apply it")
    if waiting == 1:
        parts.append("1 is out of reach and is told when it comes")
    elif waiting:
        parts.append(f"{waiting:,} are out of reach and are told when they come")
    return "; ".join(parts) + "."


def browser_not_reached(name: str, machines: int, starting: int) -> str:
    """That no web rule reaches a browser on some machines, and whether it starts there."""
    told = f"Neither the filter nor a site list reaches {name} on {counted(machines, 'machine')}"
    if not starting:
        return f"{told}; it does not start there meanwhile."
    where = "there" if starting == machines else f"on {starting:,} of them"
    return f"{told}; it starts {where} all the same, as the startup layer does not enforce."

"""Notices: what people see where something is warned of or blocked."""

from __future__ import annotations

import argparse
from typing import Any

from portero.cli import output
from portero.cli.command import Commands, add_change
from portero.cli.family import NounFamily, given_in
from portero.core.nouns.notice import Notice


def _tell_notice(notice: Any) -> None:
    output.say(f"{notice.name or notice.key} ({notice.key})")
    for name in ("title", "text", "contact", "picture"):
        if getattr(notice, name):
            output.say(f"{name}: {getattr(notice, name)}", indent=2)
    if notice.shows_ground:
        output.say("It tells the ground of what stops or warns.", indent=2)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    family = NounFamily(Notice)
    verbs = family.declare(commands)
    example = 'bridge --text "The bridge is for navigation." --contact "the watch desk"'
    rows = family.list(
        ("NOTICE", "TITLE", "TEXT"),
        lambda notice: (notice.key, notice.title or "", notice.text or ""),
        f"There is only the standard one: portero notice set {example}",
    )
    family.add_list(verbs, rows)
    family.add_show(verbs, family.show(_tell_notice), "bridge")
    names = ("name", "title", "text", "contact", "picture")
    values = family.set(lambda options, _before: given_in(options, *names, "shows_ground"), _tell_notice)
    put = family.add_set(verbs, values, example)
    for name in names:
        put.add_argument(f"--{name}", help=f"its {name}")
    told = "tell the ground of what stops or warns"
    put.add_argument("--shows-ground", action=argparse.BooleanOptionalAction, help=told)
    add_change(put)
    family.add_remove(verbs, family.remove(), "bridge")

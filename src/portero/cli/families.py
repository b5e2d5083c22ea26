"""The families of commands, each a module of its noun, in the order in which help lists them."""

from __future__ import annotations

import argparse
from importlib import import_module

from portero import __version__
from portero.cli.command import Commands

FAMILIES = (
    "serve",
    "backups",
    "session",
    "administrators",
    "audit",
    "devices",
    "enrolment_codes",
    "groups",
    "rollout",
    "pushes",
    "check_ins",
    "zones",
    "readiness",
    "layer_modes",
    "coverage",
    "categories",
    "quick_rules",
    "restrictions",
    "rulesets",
    "rules",
    "address_lists",
    "assignments",
    "schedules",
    "applications",
    "application_sets",
    "services",
    "notices",
    "directory",
    "feeds",
    "corrections",
    "indicators",
    "estate",
    "findings",
    "checks",
    "whys",
    "compared",
    "probe_sets",
    "runs",
    "evidence",
    "gate",
    "blocks",
    "site_lists",
    "activity",
    "revisions",
    "worklist",
    "board",
    "nouns",
)

_DESCRIPTION = """\
Say which web categories are stopped on which machines, see how overlapping policies resolve,
put them in force, and prove what each machine will really block."""

_EPILOG = """\
exit status:
  0 done   1 refused or failed   2 wrong usage   3 done, and the answer is not as expected
  4 the service cannot be reached

Try it: portero demo"""


def parser_of(*families: str) -> argparse.ArgumentParser:
    """The parser of the command with these families, or with all. Each command says as `family` which one it is of."""
    top = argparse.ArgumentParser(
        prog="portero",
        description=_DESCRIPTION,
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    top.add_argument("--version", action="version", version=f"portero {__version__}")
    commands = Commands(top)
    for family in families or FAMILIES:
        commands.family = family
        import_module(f"portero.cli.{family}").register(commands)
    return top

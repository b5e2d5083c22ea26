"""Services: web applications known by their hosts."""

from __future__ import annotations

import argparse
from typing import Any

from portero.cli import output
from portero.cli.command import Commands, UsageProblem, add_change
from portero.cli.family import NounFamily, given_in
from portero.core.nouns.service import Decision, Service


def _service_values(options: argparse.Namespace, before: dict[str, Any]) -> dict[str, Any]:
    values = given_in(options, "name", "suitability", "decision", "note")
    if options.host:
        values["hosts"] = options.host
    if options.trait:
        values["traits"] = {**before.get("traits", {}), **dict(map(_trait, options.trait))}
    return values


def _trait(text: str) -> tuple[str, bool | int | str]:
    name, sign, value = text.partition("=")
    if not sign:
        raise UsageProblem(f"“{text}” is not a trait; write it as in second_factor=yes")
    words: dict[str, bool] = {"yes": True, "true": True, "no": False, "false": False}
    return name, words[value] if value in words else int(value) if value.isdigit() else value


def _tell_service(service: Any) -> None:
    judged = "not judged" if service.suitability is None else f"suitability {service.suitability}"
    output.say(f"{service.name} ({service.key}), {judged}, {service.decision.value}: {', '.join(service.hosts)}")
    for name, value in service.traits.items():
        output.say(f"{name}: {'yes' if value is True else 'no' if value is False else value}", indent=2)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    family = NounFamily(Service)
    verbs = family.declare(commands)
    example = "quick-drop --host quickdrop.example --suitability 15 --decision declined"
    rows = family.list(
        ("SERVICE", "NAME", "SUITABILITY", "DECISION", "HOSTS"),
        lambda service: (
            service.key,
            service.name,
            "–" if service.suitability is None else str(service.suitability),
            service.decision.value,
            ", ".join(service.hosts),
        ),
        f"There is no service yet: portero service set {example}",
    )
    family.add_list(verbs, rows)
    family.add_show(verbs, family.show(_tell_service), "quick-drop")
    put = family.add_set(verbs, family.set(_service_values, _tell_service), f"{example}")
    put.add_argument("--name", help="name for people")
    put.add_argument("--host", action="append", metavar="HOST", help="a host of it, and all below; may be given again")
    put.add_argument("--suitability", type=int, metavar="0-100", help="100 is best")
    put.add_argument("--decision", choices=[decision.value for decision in Decision], help="what was decided")
    put.add_argument("--trait", action="append", metavar="NAME=VALUE", help="as in second_factor=no")
    put.add_argument("--note", help="a note")
    add_change(put)
    family.add_remove(verbs, family.remove(), "quick-drop")

"""Rules in few words: block, warn of, or allow something somewhere."""

from __future__ import annotations

import shlex

from portero.cli import output
from portero.cli.command import Commands, Context, Run, UsageProblem, add_change, joined_by_commas, present
from portero.cli.moments import Moments
from portero.cli.warnings import tell_warnings
from portero.core import wording
from portero.core.nouns.moments import WAYS
from portero.core.nouns.quick_rule import QuickRuleKept, QuickRules, QuickRulesMade

_DONE = {"block": "blocked", "warn": "warned of", "allow": "allowed"}


def _saying(action: str) -> Run:
    """The command that says this of what it is given."""

    def run(context: Context) -> int:
        options = context.options
        if not options.on:
            raise UsageProblem("say where: --on GROUP, or --on HOSTNAME")
        with context.client() as portero:
            until = Moments(portero).written("--until", options.until, ends=True) if options.until else None
            asked = QuickRules.model_validate(
                {
                    "action": action,
                    "what": options.what,
                    "on": joined_by_commas(*options.on),
                    "people": joined_by_commas(*options.people or ()),
                    "until": until,
                }
            )
            made = portero.rulesets.make_quick_rules(asked, reason=options.reason)
        tell_warnings(list(made.warnings))
        return present(context, made, lambda: _tell(action, made, bool(until)))

    return run


def _tell(action: str, made: QuickRulesMade, ends: bool) -> None:
    rows = [(rule.selector, rule.on, _kept(rule), _before(rule, action)) for rule in made.rules]
    output.print_table((_DONE[action].upper(), "ON", "KEPT IN", ""), rows)
    for key in made.application_sets:
        output.say(f"Made the application set {key}, which holds all versions: portero application-set show {key}")
    if not made.changed:
        output.say("It was so already; nothing was changed.")
        return
    output.say(f"Revision {made.revision} reaches {wording.counted(made.devices, 'machine')}: portero rollout --watch")
    if not ends:
        last = made.rules[-1]
        output.say(f"Take it back: portero rule remove {last.ruleset} {shlex.quote(last.selector)}")


def _kept(rule: QuickRuleKept) -> str:
    return rule.ruleset + (" (new)" if rule.made else "")


def _before(rule: QuickRuleKept, action: str) -> str:
    if rule.before is None:
        return ""
    return "was so already" if rule.before == action else f"was {rule.before} before"


def register(commands: Commands) -> None:
    """Add this family's commands."""
    for action, summary, example in (
        (
            "block",
            "Block something somewhere, in one command.",
            "portero block chess.example gambling --on crew-mess,eastquay-desk-01 --until 'in 3 days'\n"
            "  portero block program:chess-club --on desks --people apprentices --preview",
        ),
        (
            "warn",
            "Warn of something somewhere: the person may go on after a notice.",
            "portero warn category:games --on desks",
        ),
        (
            "allow",
            "Allow something somewhere, past weaker rules.",
            "portero allow https://tides.example/charts --on bridge --reason 'asked for by the pilots'",
        ),
    ):
        made = commands.add(action, _saying(action), summary, example)
        made.add_argument(
            "what",
            nargs="+",
            metavar="WHAT",
            help="a host, URL, address or range, category, family, service, site pattern or program; where a word"
            " could be two of these, the one before a colon, as in category:games or program:games",
        )
        made.add_argument("--on", action="append", metavar="GROUP|MACHINE", help="where, joined by commas")
        made.add_argument("--people", action="append", metavar="WHO", help="only these people and user groups")
        made.add_argument("--until", metavar="TIME", help=f"until just before then: {WAYS}")
        add_change(made)

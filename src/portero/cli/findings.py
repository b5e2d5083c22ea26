"""What is to be settled: findings, their remedies, and what may stay for a while."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

from portero.cli import output
from portero.cli.command import DONE, NOT_AS_EXPECTED, Commands, Context, add_change, add_csv, present
from portero.cli.moments import Moments
from portero.cli.progress import working
from portero.core import wording
from portero.core.nouns.base import rfc3339
from portero.core.nouns.finding import SEVERITIES, DeviceName, Finding, FindingKind
from portero.core.nouns.moments import WAYS

ACCEPTED_DAYS = 30


def list_findings(context: Context) -> int:
    """All open findings; exits 3 where some of the chosen severity, or a higher one, are open, or where not all was
    looked at.
    """
    options = context.options
    with context.client() as portero, working("Looking for what is to be settled"):
        found = portero.findings.list(
            severity=options.severity,
            kind=options.kind,
            accepted=None if options.all else False,
            group=options.group,
            ruleset=options.ruleset,
        )
    names = ("id", "kind", "severity", "devices", "sentence", "assignments", "rulesets")

    def tell() -> None:
        rows = [(item.severity.value, str(item.devices), _told(item)) for item in found.items]
        if rows:
            output.print_table(("SEVERITY", "MACHINES", "WHAT IS TO BE SETTLED"), rows, right=(1,))
        else:
            output.say("Nothing is to be settled.")
        if found.accepted and not options.all:
            output.say(f"{wording.counted(found.accepted, 'finding')} accepted for now: see them with --all.")

    present(context, found, tell, csv=(names, ([getattr(item, name) for name in names] for item in found.items)))
    return NOT_AS_EXPECTED if any(item.is_open for item in found.items) else DONE


def _told(finding: Finding) -> str:
    kept = f"\naccepted by {finding.accepted.by} until {finding.accepted.until:%Y-%m-%d}" if finding.accepted else ""
    return f"{finding.sentence}\n{finding.id}{kept}"


def show(context: Context) -> int:
    with context.client() as portero:
        if context.options.machines:
            return _machines(context, list(portero.findings.devices(context.options.finding)))
        found = portero.findings.get(context.options.finding)

    def tell() -> None:
        output.say(f"{found.kind.value}, {found.severity.value}")
        output.say(found.sentence)
        if found.detail:
            output.say(f"“{found.detail}”")
        if found.examples:
            rest = found.devices - len(found.examples)
            more = f" and {rest:,} more (--machines lists them all)" if rest else ""
            output.say(f"Machines: {', '.join(found.examples)}{more}")
        for rule in found.rules[:20]:
            output.say(f"{rule.ruleset}, rule {rule.rule}: {rule.selector}", indent=2)
        for remedy in found.remedies:
            output.say(f"{remedy.key}: {remedy.sentence}", indent=2)
        if found.remedies:
            output.say(f"Try one: portero finding remedy {found.id} {found.remedies[0].key} --preview")
        if found.accepted:
            kept = found.accepted
            output.say(f"Accepted by {kept.by} until {rfc3339(kept.until)}: {kept.reason}")

    return present(context, found, tell)


def _machines(context: Context, found: list[DeviceName]) -> int:
    return present(context, found, lambda: print("\n".join(device_name.hostname for device_name in found)))


def accept(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        until = datetime.now(UTC) + timedelta(days=ACCEPTED_DAYS)
        if options.until:
            until = Moments(portero).read("--until", options.until, ends=True)
        found = portero.findings.accept(options.finding, reason=options.reason, until=until)
    return _answered(context, found, f"Accepted until {rfc3339(until)}; then it is open again.")


def reopen(context: Context) -> int:
    with context.client() as portero:
        portero.findings.reopen(context.options.finding)
    return _answered(context, {"reopened": context.options.finding}, "It is open again.")


def remedy(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        portero.findings.take_remedy(options.finding, options.remedy, reason=options.reason)
    return _answered(context, {"taken": options.remedy}, "Done; follow it with: portero rollout --watch")


def _answered(context: Context, document: Any, words: str) -> int:
    return present(context, document, lambda: output.say(words))


def register(commands: Commands) -> None:
    """Add this family's commands."""
    listing = commands.add(
        "findings",
        list_findings,
        "List what is to be settled; exits 3 where something open is.",
        "portero findings --severity high",
    )
    listing.add_argument(
        "--severity",
        choices=[severity.value for severity in SEVERITIES],
        help="only those of this severity or a higher one",
    )
    listing.add_argument("--kind", choices=[kind.value for kind in FindingKind], help="only those of this kind")
    listing.add_argument("--group", metavar="GROUP", help="only those about a group")
    listing.add_argument("--ruleset", metavar="RULESET", help="only those about a ruleset")
    listing.add_argument("--all", action="store_true", help="those that somebody has accepted too")
    add_csv(listing)
    noun = commands.noun("finding", "One thing to be settled.")
    example = "shadowed.race-night--laptops"
    made = [
        noun.add("show", show, "Show one finding with its remedies.", f"portero finding show {example}"),
        noun.add(
            "accept",
            accept,
            "Say why a finding may stay as it is for a while.",
            f'portero finding accept {example} --reason "Gone with the season" --until 2026-12-31',
        ),
        noun.add("reopen", reopen, "Take an acceptance back.", f"portero finding reopen {example}"),
        noun.add(
            "remedy",
            remedy,
            "Make the change that settles a finding.",
            f"portero finding remedy {example} remove-assignment --preview",
        ),
    ]
    for parser in made:
        parser.add_argument("finding", metavar="FINDING", help="its id, as “portero findings” gives it")
    made[0].add_argument("--machines", action="store_true", help="list all machines that it is about")
    made[1].add_argument("--reason", metavar="TEXT", required=True, help="why it may stay")
    made[1].add_argument("--until", metavar="TIME", help=f"until when: {WAYS} ({ACCEPTED_DAYS} days from now)")
    made[3].add_argument("remedy", metavar="REMEDY", help="its key, as “portero finding show” gives it")
    add_change(made[3])

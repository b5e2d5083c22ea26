"""Enrolment codes, by which machines join."""

from __future__ import annotations

from portero.cli import output
from portero.cli.command import (
    CommandProblem,
    Commands,
    Context,
    present,
)
from portero.cli.devices import read_label
from portero.core import wording
from portero.core.nouns.enrolment import NewEnrolmentCode


def enrol_code_create(context: Context) -> int:
    options = context.options
    labels = dict(read_label(pair) for pair in options.label or ())
    new = NewEnrolmentCode(name=options.name, uses=options.uses, hours=options.hours, labels=labels)
    with context.client() as portero:
        code = portero.enrolment.create_code(new)
        url = context.settings.url.value

    def tell() -> None:
        output.say(code.code)
        uses = wording.counted(code.uses, "machine")
        output.say(f"Good for {uses} until {code.expires_at:%Y-%m-%d %H:%M} UTC. It is shown this once.")
        output.say(f"On the machine: portero-endpoint join --service {url} --code {code.code}")
        output.say(f"Or open there:  {url}/join#{code.code}")

    return present(context, code, tell)


def enrol_code_list(context: Context) -> int:
    with context.client() as portero:
        codes = list(portero.enrolment.codes())

    def tell() -> None:
        if not codes:
            output.say("There is no enrolment code yet: portero enrol-code create")
        else:
            rows = [
                (
                    code.id[:8],
                    code.name or (f"invites {code.device}" if code.device else "–"),
                    code.state,
                    f"{code.uses_left} of {code.uses}",
                    f"{code.expires_at:%Y-%m-%d %H:%M}",
                    code.made_by,
                )
                for code in codes
            ]
            output.print_table(("ID", "FOR", "STATE", "USES LEFT", "ENDS (UTC)", "MADE BY"), rows)

    return present(context, codes, tell)


def enrol_code_revoke(context: Context) -> int:
    wanted = context.options.code
    with context.client() as portero:
        found = [code for code in portero.enrolment.codes() if code.id.startswith(wanted)]
        if len(found) != 1:
            told = "there is no enrolment code" if not found else "there are several enrolment codes"
            raise CommandProblem(f"{told} whose id begins with “{wanted}”; see portero enrol-code list")
        portero.enrolment.revoke_code(found[0].id)
    return present(
        context,
        {"revoked": found[0].id},
        lambda: output.say(f"Revoked {found[0].id[:8]}; nothing joins with it any more."),
    )


def register(commands: Commands) -> None:
    """Add this family's commands."""
    code = commands.noun("enrol-code", "Enrolment codes, by which machines join.")
    create = code.add("create", enrol_code_create, "Make an enrolment code.", "portero enrol-code create --uses 20")
    create.add_argument("--name", help="what it is for")
    create.add_argument("--uses", type=int, default=1, help="how many machines may join with it (1)")
    create.add_argument("--hours", type=int, default=24, help="how long it is good (24)")
    create.add_argument("--label", action="append", metavar="NAME=VALUE", help="label to put on the machines")
    code.add("list", enrol_code_list, "List enrolment codes.", "portero enrol-code list")
    revoke = code.add("revoke", enrol_code_revoke, "Take a code back.", "portero enrol-code revoke 3f2a91c0")
    revoke.add_argument("code", metavar="ID", help="the code's id, or its beginning")

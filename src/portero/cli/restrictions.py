"""Restrictions for a room: put on with one command, lifted with one."""

from __future__ import annotations

from portero.cli import output
from portero.cli.command import Commands, Context, add_change, joined_by_commas, present
from portero.cli.moments import Moments
from portero.cli.pushes import follow
from portero.client import Portero
from portero.core import wording
from portero.core.nouns.moments import WAYS
from portero.core.nouns.restriction import NewRestriction, RestrictionDone, RestrictionInForce


def restriction_put_on(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        until = Moments(portero).written("--until", options.until, ends=True) if options.until else None
        asked = NewRestriction.model_validate(
            {
                "key": options.key,
                "what": options.what,
                "no_web": options.no_web,
                "on": joined_by_commas(*options.on),
                "people": joined_by_commas(*options.people or ()),
                "signed_in": options.signed_in,
                "until": until,
                "until_restart": options.until_restart,
            }
        )
        done = _followed(portero, portero.restrictions.put_on(asked, reason=options.reason), context)

    def tell() -> None:
        _print(done.in_force)
        if done.not_for_people:
            output.say("! Its site patterns are left out: browsers have them for everybody or for nobody.")
        for browser in done.not_reached:
            output.say(f"! {browser.sentence}")
        _tell_push(done)
        output.say(f"Lift it: portero restriction lift {options.key}")

    return present(context, done, tell)


def restriction_lift(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        on = joined_by_commas(*options.on or ())
        done = _followed(portero, portero.restrictions.lift(options.key, on=on, reason=options.reason), context)

    def tell() -> None:
        output.say(f"The restriction {options.key} is lifted" + (f" on {wording.joined(on)}." if on else "."))
        if done.in_force:
            _print(done.in_force)
        _tell_push(done)

    return present(context, done, tell)


def restriction_list(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        found = portero.restrictions.list(device=options.device)

    def tell() -> None:
        if found.in_force:
            _print(found.in_force)
        else:
            output.say("Nothing is restricted " + (f"on {options.device} " if options.device else "") + "now.")
        if found.kept and not options.device:
            output.say(f"Kept, to be put on again: {wording.joined(found.kept)}")

    return present(context, found, tell)


def _followed(portero: Portero, done: RestrictionDone, context: Context) -> RestrictionDone:
    """Wait for the machines that were told."""
    if done.push is None or context.options.no_wait:
        return done
    return done.model_copy(update={"push": follow(portero, done.push, quiet=context.options.json)})


def _tell_push(done: RestrictionDone) -> None:
    output.say(done.push.sentence if done.push else "No machine that is meant has joined.")


def _blocked(one: RestrictionInForce) -> str:
    starts = [f"starts of {wording.joined(one.browsers)}"] if one.browsers else []
    return ", ".join([*(["no web at all"] if one.no_web else []), *one.what, *starts])


def _print(found: tuple[RestrictionInForce, ...]) -> None:
    rows = [
        (
            one.key,
            _blocked(one),
            ", ".join(one.on) + (f" (for {wording.joined(one.people)})" if one.people else ""),
            f"{one.until:%Y-%m-%d %H:%M} UTC" + (", or a restart" if one.until_restart else ""),
            one.by,
        )
        for one in found
    ]
    output.print_table(("RESTRICTION", "BLOCKS", "ON", "UNTIL", "BY"), rows)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    family = commands.noun("restriction", "What some machines may not do for a while.")
    put_on = family.add(
        "put-on",
        restriction_put_on,
        "Put a restriction on: block some things, or the whole web, on machines until then; they are told at once.",
        "portero restriction put-on lesson chess.example program:chess-club --on training --until 'in 45 minutes'\n"
        "  portero restriction put-on exam --no-web --on training-pc-01,training-pc-02 --until 'in 2 hours'",
    )
    put_on.add_argument("key", metavar="KEY", help="under which it is kept, to be put on again without WHAT")
    put_on.add_argument("what", nargs="*", metavar="WHAT", help="what is blocked, as in portero block")
    put_on.add_argument("--no-web", action="store_true", help="no web at all")
    put_on.add_argument("--on", action="append", required=True, metavar="GROUP|MACHINE", help="where, joined by commas")
    whom = put_on.add_mutually_exclusive_group()
    whom.add_argument("--people", action="append", metavar="WHO", help="only these people and user groups")
    whom.add_argument("--signed-in", action="store_true", help="only who is signed in there now, on any of them")
    put_on.add_argument("--until", metavar="TIME", help=f"until just before then: {WAYS}")
    put_on.add_argument("--until-restart", action="store_true", help="until a machine restarts, half a day at most")
    lift = family.add(
        "lift", restriction_lift, "Lift a restriction; machines are told at once.", "portero restriction lift lesson"
    )
    lift.add_argument("key", metavar="KEY")
    lift.add_argument("--on", action="append", metavar="GROUP|MACHINE", help="on these only")
    for made in (put_on, lift):
        made.add_argument("--no-wait", action="store_true", help="do not wait for the machines that are told")
        add_change(made)
    listing = family.add(
        "list",
        restriction_list,
        "What is restricted now, where, by whom and until when.",
        "portero restriction list --device training-pc-01",
    )
    listing.add_argument("--device", metavar="MACHINE", help="on this machine")

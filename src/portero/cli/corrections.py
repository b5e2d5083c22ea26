"""Corrections of the categories of hosts."""

from __future__ import annotations

from portero.cli import output
from portero.cli.command import DONE, Commands, Context, add_change, joined_by_commas, present, tell_removed
from portero.cli.lookups import correction_sentence
from portero.client import NotFound
from portero.core.nouns.correction import Correction


def correction_list(context: Context) -> int:
    """List corrections."""
    options = context.options
    with context.client() as portero:
        found = list(portero.corrections.list(q=options.search, feed=options.feed))

    def tell() -> None:
        if not found:
            output.say("Nothing is corrected: portero correction set HOST --categories productivity --reason …")
        else:
            rows = [
                (
                    correction.host,
                    " ".join(correction.categories),
                    " ".join(correction.feeds_say) or "–",
                    correction.by or "",
                    f"{correction.at:%Y-%m-%d}" if correction.at else "",
                    correction.reason or "",
                )
                for correction in found
            ]
            output.print_table(("HOST", "HERE", "FEEDS SAY", "BY", "ON", "WHY"), rows)

    return present(context, found, tell)


def correction_set(context: Context) -> int:
    """Correct a host."""
    options = context.options
    categories = tuple(joined_by_commas(options.categories))
    wanted = Correction(host=options.host, categories=categories, reason=options.reason)
    with context.client() as portero:
        try:
            seen: int | None = portero.corrections.get(wanted.host).version
        except NotFound:
            seen = None
        made = portero.corrections.put(wanted, version=seen)
    return present(context, made, lambda: output.say(f"{made.host}: {correction_sentence(made)}"))


def correction_remove(context: Context) -> int:
    """Let what feeds say count again."""
    options = context.options
    with context.client() as portero:
        seen = portero.corrections.get(options.host)
        portero.corrections.remove(seen.host, version=seen.version, reason=options.reason)
    tell_removed(context, seen.host, "the correction of")
    return DONE


def correction_export(context: Context) -> int:
    """Write corrections for a feed's keeper."""
    with context.client() as portero:
        print(portero.corrections.export(feed=context.options.feed), end="")
    return DONE


def register(commands: Commands) -> None:
    """Add this family's commands."""
    noun = commands.noun("correction", "Hosts whose categories are seen otherwise here than in feeds.", of="correction")
    listing = noun.add("list", correction_list, "List corrections.", "portero correction list --search rota")
    listing.add_argument("--search", metavar="TEXT", help="part of the host, the categories or the reason")
    put = noun.add(
        "set",
        correction_set,
        "Say in which categories a host is.",
        'portero correction set crew-rota.example --categories productivity --reason "Our own rota"',
    )
    remove = noun.add(
        "remove", correction_remove, "Let what feeds say count again.", "portero correction remove crew-rota.example"
    )
    for made in (put, remove):
        made.add_argument("host", metavar="HOST")
        add_change(made)
    put.add_argument("--categories", metavar="KEYS", required=True, help="joined by commas")
    export = noun.add(
        "export",
        correction_export,
        "Write corrections as CSV, for a feed's keeper.",
        "portero correction export --feed harbour-list",
        json=False,
    )
    for made in (listing, export):
        made.add_argument("--feed", metavar="KEY", help="only hosts that this feed names")

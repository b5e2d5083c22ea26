"""The web taxonomy, and what is known of hosts."""

from __future__ import annotations

from portero.cli import output
from portero.cli.command import (
    Commands,
    Context,
    add_change,
    present,
)
from portero.cli.feeds import category_index
from portero.cli.lookups import tell_lookup
from portero.core import wording
from portero.core.nouns.ground import GROUNDS
from portero.core.nouns.taxonomy import NEWLY_REGISTERED, Category, Taxonomy


def category_list(context: Context) -> int:
    with context.client() as portero:
        taxonomy, settings = portero.categories.taxonomy(), portero.settings.get()

    def definition(category: Category) -> str:
        bound = f" Here: {wording.newly_registered(settings.newly_registered_days)}."
        return category.definition + (bound if category.key == NEWLY_REGISTERED else "")

    ground = (context.options.ground or "").casefold()
    families = [
        family.model_copy(update={"categories": some})
        for family in taxonomy.families
        if (some := tuple(one for one in family.categories if not ground or one.ground == ground))
    ]

    def tell() -> None:
        if not families:
            output.say(f"No category has the ground “{ground}”; there are {wording.joined(list(GROUNDS))}.")
        for family in families:
            output.say(f"{family.name} (family {family.key})")
            rows = [(f"  {one.key}", definition(one), one.ground or "", one.test_host) for one in family.categories]
            output.print_table(("", "", "", ""), rows)

    return present(context, Taxonomy(families=tuple(families)), tell)


def category_lookup(context: Context) -> int:
    with context.client() as portero:
        found = portero.categories.look_up(context.options.host)
        taxonomy = portero.categories.taxonomy()
    return present(context, found, lambda: tell_lookup(found, taxonomy))


def register(commands: Commands) -> None:
    """Add this family's commands."""
    category = commands.noun("category", "The web taxonomy.")
    listing = category.add(
        "list",
        category_list,
        "List families and categories, the ground on which one stops them, and their test hosts.",
        "portero category list --ground bandwidth",
    )
    listing.add_argument("--ground", metavar="GROUND", help=f"of this ground only: {', '.join(GROUNDS)}")
    look = category.add(
        "lookup",
        category_lookup,
        "Say all that is known of a host: categories, who says so, rules that touch it.",
        "portero category lookup lucky-reef.example",
    )
    look.add_argument("host", metavar="HOST", help="a host or a URL")

    index = category.add(
        "index", category_index, "Say of what the category index in force was made.", "portero category index"
    )
    index.add_argument(
        "--newly-registered-days", type=int, metavar="N", help="set for how many days a name counts as newly registered"
    )
    add_change(index)

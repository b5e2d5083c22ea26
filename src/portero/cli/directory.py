"""The directory: people and their user groups."""

from __future__ import annotations

from portero.cli import output
from portero.cli.checks import read_or_tell
from portero.cli.command import Commands, Context, present, read_bytes
from portero.core import wording
from portero.formats.estate_document import read_directory


def directory_show(context: Context) -> int:
    """Say how many people and user groups there are."""
    with context.client() as portero:
        found = portero.directory.get()

    def tell() -> None:
        people = wording.counted(len(found.users), "person", "people")
        output.say(f"Generation {found.generation}, brought in by {found.by}: {people}.")
        rows = [
            (user_group.key, str(len(user_group.users)), ", ".join(user_group.user_groups))
            for user_group in found.user_groups
        ]
        output.print_table(("USER GROUP", "PEOPLE", "TAKES IN"), rows, right=(1,))

    return present(context, found, tell)


def directory_put(context: Context) -> int:
    """Take a new generation into use."""
    name = context.options.file
    directory = read_or_tell(name, lambda: read_directory(read_bytes(name)))
    with context.client() as portero:
        made = portero.directory.put(directory)

    def tell() -> None:
        groups = wording.counted(len(made.user_groups), "user group")
        output.say(f"Generation {made.generation} of the directory counts now: {groups}.")

    return present(context, made, tell)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    directory = commands.noun("directory", "People and their user groups.")
    directory.add("show", directory_show, "Show user groups.", "portero directory show")
    put = directory.add(
        "put",
        directory_put,
        "Bring people and user groups in, whole, from a file in the shape of a facts document's “directory”.",
        "portero directory put people.yaml",
    )
    put.add_argument("file", metavar="FILE", help="YAML or JSON; - reads standard input")

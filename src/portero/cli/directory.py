"""The directory: people and their user groups."""

from __future__ import annotations

from portero.cli import output
from portero.cli.command import Commands, Context, present, read_bytes
from portero.cli.documents import read_or_tell
from portero.client.errors import NotFound
from portero.core import sentences, wording
from portero.core.nouns.directory import DirectoryState
from portero.formats.estate_document import read_directory


def directory_show(context: Context) -> int:
    """Say how many people and user groups there are."""
    with context.client() as portero:
        found = portero.directory.get()

    def tell() -> None:
        people = wording.counted(len(found.users), "person", "people")
        output.say(f"Generation {found.generation}, brought in by {found.by}: {people}.")
        _tell_waiting(found)
        rows = [
            (user_group.key, str(len(user_group.users)), ", ".join(user_group.user_groups))
            for user_group in found.user_groups
        ]
        output.print_table(("USER GROUP", "PEOPLE", "TAKES IN"), rows, right=(1,))

    return present(context, found, tell)


def directory_find(context: Context) -> int:
    """Find people and user groups by part of their names."""
    with context.client() as portero:
        found = portero.directory.find(context.options.text, limit=100)

    def tell() -> None:
        if not found.people and not found.user_groups:
            output.say("Nobody of that name is in the directory.")
            return
        rows = [(person.user, ", ".join(person.user_groups)) for person in found.people]
        output.print_table(("PERSON", "IN USER GROUPS"), rows)
        if found.people_in_all > len(rows):
            output.say(f"and {found.people_in_all - len(rows):,} more; write more of the name.")
        if found.user_groups:
            output.say(f"User groups: {wording.joined(found.user_groups)}.")

    return present(context, found, tell)


def directory_put(context: Context) -> int:
    """Take a new generation into use."""
    name = context.options.file
    directory = read_or_tell(name, lambda: read_directory(read_bytes(name)))
    with context.client() as portero:
        try:
            seen = portero.directory.get().generation
        except NotFound:
            seen = None
        made = portero.directory.put(directory, version=seen)
    return present(context, made, lambda: _tell_counts(made))


def directory_take(context: Context) -> int:
    """Let the generation that waits count."""
    with context.client() as portero:
        made = portero.directory.take()
    return present(context, made, lambda: _tell_counts(made))


def directory_drop(context: Context) -> int:
    """Drop the generation that waits."""
    with context.client() as portero:
        made = portero.directory.drop()
    return present(context, made, lambda: _tell_counts(made))


def _tell_counts(found: DirectoryState) -> None:
    groups = wording.counted(len(found.user_groups), "user group")
    output.say(f"Generation {found.generation} of the directory counts now: {groups}.")
    _tell_waiting(found)


def _tell_waiting(found: DirectoryState) -> None:
    if found.waiting:
        output.say(sentences.directory_waits(found.waiting))
        output.say("Take it with “portero directory take”, or drop it with “portero directory drop”.")


def register(commands: Commands) -> None:
    """Add this family's commands."""
    directory = commands.noun("directory", "People and their user groups.")
    directory.add("show", directory_show, "Show user groups.", "portero directory show")
    find = directory.add(
        "find", directory_find, "Find people and user groups by part of their names.", "portero directory find purser"
    )
    find.add_argument("text", metavar="TEXT", help="part of a name")
    put = directory.add(
        "put",
        directory_put,
        "Bring people and user groups in, whole, from a file in the shape of a facts document's “directory”.",
        "portero directory put people.yaml",
    )
    put.add_argument("file", metavar="FILE", help="YAML or JSON; - reads standard input")
    take = "Let the generation that waits to be looked at count."
    directory.add("take", directory_take, take, "portero directory take")
    drop = "Drop the generation that waits to be looked at."
    directory.add("drop", directory_drop, drop, "portero directory drop")

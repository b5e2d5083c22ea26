"""The estate as a document: export, check, compare, put."""

from __future__ import annotations

from pathlib import Path

from portero.cli import output
from portero.cli.command import (
    DONE,
    NOT_AS_EXPECTED,
    CommandProblem,
    Commands,
    Context,
    add_change,
    add_yes,
    confirmed,
    present,
    read_bytes,
)
from portero.cli.documents import alone, estate_in, read_or_tell
from portero.cli.previews import tell_preview
from portero.cli.progress import working
from portero.cli.runs import STANDARD_OUTPUT, add_junit, tell_result, write_junit
from portero.client import Previewed
from portero.core import wording
from portero.core.insight.predicting import numbered, predict
from portero.core.matching.categories import EMPTY_INDEX
from portero.core.nouns.estate import NOUNS, Estate, FactsDocument
from portero.core.nouns.preview import Preview
from portero.core.nouns.run import ProbeResult
from portero.core.nouns.worklist import AuthoringWarning
from portero.formats.category_index import read_index
from portero.formats.estate_document import read_facts, write_estate, write_estate_files

MOST_TOLD = 40


def estate_export(context: Context) -> int:
    """Write the estate to standard output, or as a folder of files."""
    options = context.options
    with context.client() as portero:
        estate = portero.estate.get()

    def tell() -> None:
        if options.folder == "-":
            print(write_estate(estate), end="")
        else:
            _write_folder(Path(options.folder), write_estate_files(estate))

    return present(
        context, estate.model_dump(mode="json", exclude_none=True, exclude_defaults=True) | {"portero": 1}, tell
    )


def _write_folder(folder: Path, files: dict[str, str]) -> None:
    """Write the files; documents that are there and are not among them would be read as part of the estate."""
    others = [file for file in folder.rglob("*.yaml") if str(file.relative_to(folder)) not in files]
    ours = [file for file in others if file.read_bytes().startswith(b"portero: 1")]
    if len(ours) < len(others):
        strange = next(file for file in others if file not in ours)
        raise CommandProblem(f"{strange} is no part of an estate; choose a folder of its own, or move that file")
    try:
        for name, text in files.items():
            (folder / name).parent.mkdir(parents=True, exist_ok=True)
            (folder / name).write_text(text, encoding="utf-8")
        for file in ours:
            file.unlink()
    except OSError as problem:
        raise CommandProblem(f"{problem.filename} cannot be written: {problem.strerror}") from problem
    gone = f", took {wording.counted(len(ours), 'file')} away" if ours else ""
    output.say(f"Wrote {wording.counted(len(files), 'file')} to {folder}{gone}.")


def estate_check(context: Context) -> int:
    """Validate a document; with facts, try its probe sets too."""
    options = context.options
    estate = estate_in(options.file)
    facts = FactsDocument()
    if options.facts:
        facts = read_or_tell(options.facts, lambda: read_facts(read_bytes(options.facts)))
    index = read_or_tell(options.index, lambda: read_index(read_bytes(options.index))) if options.index else EMPTY_INDEX
    offline = alone(estate, facts, index)
    offline.compile_all()
    standings = offline.alike() if options.facts else []
    results = [tried.result for tried in predict(numbered(estate.probe_sets), standings, as_meant=True)]
    failed = [result for result in results if result.failed]
    write_junit(options, results)
    if options.junit == STANDARD_OUTPUT:
        return NOT_AS_EXPECTED if failed else DONE
    told = offline.told_of_sites()
    present(
        context,
        {"document": _counts(estate), "told": told, "probes": len(results), "failed": failed},
        lambda: _tell_check(estate, told, results if options.facts else [], failed),
    )
    return NOT_AS_EXPECTED if failed else DONE


def _counts(estate: Estate) -> dict[str, int]:
    return {noun.list: len(noun.of(estate)) for noun in NOUNS.values()}


def _tell_check(
    estate: Estate, told_of_sites: list[AuthoringWarning], results: list[ProbeResult], failed: list[ProbeResult]
) -> None:
    told = [wording.counted(len(noun.of(estate)), noun.one, noun.plural) for noun in NOUNS.values() if noun.of(estate)]
    output.say(f"It fits together: {wording.joined(told) or 'nothing in it yet'}.")
    for warning in told_of_sites:
        output.say(warning.sentence, 2)
    if results:
        passed = len(results) - len(failed)
        output.say(f"{passed} of {wording.counted(len(results), 'probe')} came out as expected everywhere.")
    for result in failed[:MOST_TOLD]:
        tell_result(result)


def estate_compare(context: Context) -> int:
    """What putting the document would change."""
    _options, document = context.options, estate_in(context.options.file)
    found = _compared(context, document)
    present(context, found, lambda: tell_preview(found))
    return NOT_AS_EXPECTED if found.changes else DONE


def _compared(context: Context, document: Estate) -> Preview:
    keep = context.options.keep_others
    with context.client() as portero, working("Comparing"):
        return portero.preview(lambda asked: asked.estate.put(document, revision=None, keep_others=keep))


def estate_put(context: Context) -> int:
    """Put the document in force, after saying what goes."""
    options, document = context.options, estate_in(context.options.file)
    found = _compared(context, document)
    if options.preview:
        raise Previewed(found)
    removed = [change for change in found.changes if change.verb == "removed"]
    if removed and not options.json:
        tell_preview(found)
    if removed and not confirmed(options, _question(found)):
        return DONE
    with context.client() as portero, working("Putting it in force"):
        made = portero.estate.put(
            document, revision=found.revision, keep_others=options.keep_others, reason=options.reason
        )

    def tell() -> None:
        if not made.changes:
            output.say("It changes nothing.")
        else:
            changes = wording.counted(len(made.changes), "change")
            output.say(f"Revision {made.revision}: {changes}, {wording.counted(found.devices, 'machine')} to follow.")
            output.say("Follow it with: portero rollout --watch")

    return present(context, made, tell)


def _question(found: Preview) -> str:
    names = [f"{change.noun} {change.key}" for change in found.changes if change.verb == "removed"]
    listed = wording.joined(names if len(names) <= 6 else [*names[:5], f"{len(names) - 5} more"])
    return f"The document does not name {listed}: they go. Put it in force?"


def register(commands: Commands) -> None:
    """Add this family's commands."""
    estate = commands.noun("estate", "The whole estate as a document.")
    export = estate.add(
        "export", estate_export, "Write the estate as YAML, always in the same order.", "portero estate export policy/"
    )
    export.add_argument(
        "folder",
        nargs="?",
        default="-",
        metavar="FOLDER",
        help="write a folder of files; - or nothing: standard output",
    )

    check = estate.add(
        "check",
        estate_check,
        "Check that a document fits together; with --facts also that its probes come out as expected. Exits 3 where one"
        " does not.",
        "portero estate check policy/ --facts facts.yaml",
        service=False,
    )
    check.add_argument("--facts", metavar="FILE", help="facts document of devices to try the probe sets on")
    check.add_argument("--index", metavar="FILE", help="category index as CSV: host, categories")
    add_junit(check)

    compare = estate.add(
        "compare",
        estate_compare,
        "Say what putting a document would change. Exits 3 where it would change something.",
        "portero estate compare estate.yaml",
    )
    put = estate.add(
        "put",
        estate_put,
        "Make the estate what a document says, all of it in one revision, or nothing.",
        'portero estate put policy/ --keep-others --reason "Season begins"',
    )
    for made in (check, compare, put):
        made.add_argument(
            "file", metavar="FILE", help="a document, YAML or JSON, or a folder of them; - reads standard input"
        )
    for made in (compare, put):
        made.add_argument("--keep-others", action="store_true", help="leave alone what the document does not name")
    add_yes(put)
    add_change(put)

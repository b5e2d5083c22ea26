"""Documents that commands judge by alone: an estate, the facts of machines, a category index."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from portero.cli.command import CommandProblem, read_bytes, read_documents
from portero.core.insight.offline import OfflineEstate
from portero.core.matching.applications import CannotFreeze
from portero.core.matching.categories import EMPTY_INDEX, CategoryIndex
from portero.core.nouns.estate import Estate, FactsDocument
from portero.formats.category_index import read_index
from portero.formats.estate_document import read_estate, read_facts
from portero.formats.places import BadDocument


def read_or_tell(name: str, read: Callable[[], Any]) -> Any:
    """What `read` reads of the file of that name. CommandProblem with each problem of the document and its place."""
    try:
        return read()
    except BadDocument as problem:
        lines = [f"{name}: {fault}" if not fault.file else f"{name}/{fault}" for fault in problem.problems[:20]]
        if len(problem.problems) > 20:
            lines.append(f"{name}: and {len(problem.problems) - 20} more")
        raise CommandProblem("\n".join(lines)) from problem


def estate_in(name: str) -> Estate:
    """The estate of a document, or of a folder of them. CommandProblem where it does not read as one."""
    estate: Estate = read_or_tell(name, lambda: read_estate(read_documents(name)))
    return estate


def offline(options: argparse.Namespace) -> OfflineEstate | None:
    """What --estate, --facts and --index name; None where none is given, and the service is to answer."""
    if not (options.estate or options.facts or options.index):
        return None
    if not options.estate:
        raise CommandProblem("--facts and --index go with --estate FILE")
    if not options.facts:
        raise CommandProblem("--estate needs --facts FILE too: the devices that attempts are made on")
    estate = estate_in(options.estate)
    facts = read_or_tell(options.facts, lambda: read_facts(read_bytes(options.facts)))
    index = read_or_tell(options.index, lambda: read_index(read_bytes(options.index))) if options.index else EMPTY_INDEX
    return alone(estate, facts, index)


def alone(estate: Estate, facts: FactsDocument, index: CategoryIndex) -> OfflineEstate:
    """What judges by documents alone. CommandProblem where a set is to be frozen that cannot be."""
    try:
        return OfflineEstate(estate, facts, index, datetime.now(UTC))
    except CannotFreeze as problem:
        raise CommandProblem(str(problem)) from problem


def add_documents(parser: argparse.ArgumentParser) -> None:
    """The options that name documents in place of the service."""
    group = parser.add_argument_group("without a service")
    group.add_argument(
        "--estate", metavar="FILE", help="estate document, YAML or JSON, or a folder of them; - reads standard input"
    )
    group.add_argument("--facts", metavar="FILE", help="facts document of the devices")
    group.add_argument("--index", metavar="FILE", help="category index as CSV: host, categories")

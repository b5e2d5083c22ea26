"""Lists of machines as CSV: hostname, kind, unit, serial, os.family, os.version, labels.NAME, named in the heading."""

from __future__ import annotations

import csv
import io
from typing import Any

from pydantic import ValidationError

from portero.core.nouns.base import unknown_word
from portero.core.nouns.device import NewDevice
from portero.core.nouns.faults import fault_of
from portero.formats.places import BadDocument, DocumentProblem

_PLAIN = ("hostname", "kind", "unit", "serial")
_SYSTEM = ("os.family", "os.version")
MOST_LINES = 5000


def read_device_list(data: bytes) -> list[tuple[int, NewDevice]]:
    """The machines with the number of the line that each ends on. BadDocument with every bad line."""
    try:
        reader = csv.DictReader(io.StringIO(data.decode("utf-8-sig")), strict=True)
        names = [name.strip() for name in reader.fieldnames or ()]
    except UnicodeDecodeError as problem:
        line = data[: problem.start].count(b"\n") + 1
        raise BadDocument([DocumentProblem(line, 1, (), "not UTF-8 text; save the list as UTF-8")]) from problem
    except csv.Error as problem:
        raise BadDocument([DocumentProblem(1, 1, (), f"not CSV: {problem}")]) from problem
    _refuse_columns(names)
    devices: list[tuple[int, NewDevice]] = []
    problems: list[DocumentProblem] = []
    try:
        for row in reader:
            found = _read_row(reader.line_num, names, list(row.values()))
            if isinstance(found, DocumentProblem):
                problems.append(found)
            else:
                devices.append((reader.line_num, found))
            if len(devices) > MOST_LINES:
                problems.append(
                    DocumentProblem(reader.line_num, 1, (), f"more than {MOST_LINES:,} machines; split the list")
                )
                break
    except csv.Error as problem:
        problems.append(DocumentProblem(reader.line_num, 1, (), f"not CSV: {problem}"))
    if not devices and not problems:
        problems.append(DocumentProblem(1, 1, (), "the list names no machine"))
    if problems:
        raise BadDocument(problems)
    return devices


def _refuse_columns(names: list[str]) -> None:
    known = (*_PLAIN, *_SYSTEM)
    problems = [
        DocumentProblem(1, 1, (name,), unknown_word("column", name, known) + "; labels are labels.NAME")
        for name in names
        if name not in known and not name.startswith("labels.")
    ]
    if "hostname" not in names:
        problems.append(DocumentProblem(1, 1, ("hostname",), "the heading must name the column “hostname”"))
    if problems:
        raise BadDocument(problems)


def _read_row(line: int, names: list[str], values: list[Any]) -> NewDevice | DocumentProblem:
    if len(values) > len(names) or None in values:
        return DocumentProblem(line, 1, (), f"the line has not as many cells as the heading, which has {len(names)}")
    given = {name: value.strip() for name, value in zip(names, values, strict=True) if value.strip()}
    value: dict[str, Any] = {name: given[name] for name in _PLAIN if name in given}
    value["labels"] = {name.removeprefix("labels."): text for name, text in given.items() if name.startswith("labels.")}
    system = {name.removeprefix("os."): given[name] for name in _SYSTEM if name in given}
    if system:
        value["os"] = system
    try:
        return NewDevice.model_validate(value)
    except ValidationError as error:
        first = error.errors()[0]
        return DocumentProblem(line, 1, first["loc"], fault_of(first))

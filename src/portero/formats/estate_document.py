"""The estate and facts documents: YAML 1.2 or JSON to nouns, with line and column in every problem."""

from __future__ import annotations

from difflib import get_close_matches
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from portero.core.nouns.assignment import made_key
from portero.core.nouns.base import fault_of, without_tags
from portero.core.nouns.estate import Estate, FactsDocument
from portero.formats.places import BadDocument, Path, PlacedValues

Document = TypeVar("Document", Estate, FactsDocument)


def read_estate(data: bytes) -> Estate:
    """An estate document's bytes as an Estate. BadDocument with every problem and its place."""
    return _read(data, Estate, "portero")


def read_facts(data: bytes) -> FactsDocument:
    """A facts document's bytes. BadDocument with every problem and its place."""
    return _read(data, FactsDocument, "portero_facts")


def _read(data: bytes, model: type[Document], version_key: str) -> Document:
    placed = PlacedValues(data)
    value = placed.value
    if not isinstance(value, dict) or version_key not in value:
        message = f"this is no {version_key} document: it must begin with “{version_key}: 1”"
        raise BadDocument([placed.problem((), message)])
    if model is Estate:
        _key_assignments(value)
    try:
        document = model.model_validate(value)
    except ValidationError as problem:
        raise BadDocument(
            [placed.problem(*told) for told in (tell(error, model) for error in problem.errors())]
        ) from problem
    faults = [placed.problem(fault.path, fault.message) for fault in document.faults()]
    if faults:
        raise BadDocument(faults)
    return document


def _key_assignments(value: dict[str, Any]) -> None:
    """Give a key to each assignment that has none."""
    listed = value.get("assignments")
    if not isinstance(listed, list):
        return
    taken = {entry["key"] for entry in listed if isinstance(entry, dict) and isinstance(entry.get("key"), str)}
    for entry in listed:
        if isinstance(entry, dict) and entry.get("key") is None and isinstance(entry.get("ruleset"), str):
            to = entry.get("to")
            first = to[0] if isinstance(to, list) and to else to
            if isinstance(first, str):
                entry["key"] = made_key(entry["ruleset"], first, taken)
                taken.add(entry["key"])


def tell(error: Any, model: type[BaseModel]) -> tuple[Path, str]:
    """A Pydantic error as a path into the document and a sentence that says what to do."""
    path: Path = without_tags(error["loc"])
    kind, message = error["type"], fault_of(error)
    if kind == "extra_forbidden":
        name = str(path[-1])
        known = sorted(_known_keys(model))
        near = get_close_matches(name, known, n=1)
        message = f"unknown key “{name[:64]}”" + (f"; did you mean “{near[0]}”?" if near else "")
    elif kind == "missing":
        message = f"“{path[-1]}” is missing"
    elif kind == "string_pattern_mismatch" and "a-z0-9" in error["ctx"]["pattern"]:
        message = f"“{str(error['input'])[:64]}” is no key: use lower-case letters, digits and '-'"
    elif kind in ("enum", "literal_error"):
        message = f"“{str(error['input'])[:64]}” is none of {error['ctx']['expected']}"
    elif kind == "string_type":
        message = "should be text; put it in quotes"
    else:
        message = message[0].lower() + message[1:]
    return path, message


def _known_keys(model: type[BaseModel]) -> set[str]:
    """Every key that the model or a model within it knows."""
    schema = model.model_json_schema()
    parts = [schema, *schema.get("$defs", {}).values()]
    return {key for part in parts for key in part.get("properties", {})}

"""The estate and facts documents: YAML 1.2 or JSON to nouns, with line and column in every problem."""

from __future__ import annotations

from collections.abc import Mapping
from difflib import get_close_matches
from typing import Any, TypeVar, get_args

import yaml
from pydantic import BaseModel, ValidationError
from pydantic.fields import FieldInfo

from portero.core.insight.brought_rules import filled
from portero.core.nouns.assignment import made_key
from portero.core.nouns.base import without_tags
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate, FactsDocument
from portero.core.nouns.faults import fault_of
from portero.formats.places import BadDocument, DocumentProblem, Path, PlacedFiles, PlacedValues

Document = TypeVar("Document", Estate, FactsDocument)


def read_estate(data: bytes | Mapping[str, bytes]) -> Estate:
    """An estate document as an Estate, with what its address lists bring: one file's bytes, or several by name.
    BadDocument with every problem and its place.
    """
    return _read(PlacedValues(data) if isinstance(data, bytes) else PlacedFiles(data), Estate, "portero")


def read_facts(data: bytes) -> FactsDocument:
    """A facts document's bytes. BadDocument with every problem and its place."""
    return _read(PlacedValues(data), FactsDocument, "portero_facts")


def read_directory(data: bytes) -> Directory:
    """A directory's bytes, in the shape in which it stands in a facts document. BadDocument with every problem."""
    placed = PlacedValues(data)
    value = placed.value
    inner = value.get("directory", value) if isinstance(value, dict) else value
    facts = {"portero_facts": 1, "directory": inner}
    return _checked(placed, facts, FactsDocument, () if inner is value else ("directory",)).directory


def written_estate(estate: Estate) -> dict[str, Any]:
    """The estate as plain values, in the order of the document; what is as it is anyway is left out."""
    values = estate.model_dump(mode="json", exclude_none=True, exclude_defaults=True)
    return {"portero": 1, **{name: values[name] for name in Estate.model_fields if values.get(name)}}


def write_estate(estate: Estate) -> str:
    """The estate as a YAML document, always in the same order."""
    return _yaml(written_estate(estate))


_OWN_FILES = ("rulesets",)
"""Lists of which each object gets a file of its own."""


def write_estate_files(estate: Estate) -> dict[str, str]:
    """The estate as a folder of YAML documents, by name: a file a list, and one for each ruleset."""
    values = written_estate(estate)
    files = {"estate.yaml": {name: value for name, value in values.items() if not _is_list_of_objects(value)}}
    for name, value in values.items():
        if name in _OWN_FILES:
            files |= {f"{name}/{item['key']}.yaml": {"portero": 1, name: [item]} for item in value}
        elif _is_list_of_objects(value):
            files[f"{name}.yaml"] = {"portero": 1, name: value}
    return {name: _yaml(value) for name, value in files.items()}


def write_object(value: dict[str, Any]) -> str:
    """One object of an estate as YAML, as an estate document has it."""
    return _yaml(value)


def _is_list_of_objects(value: Any) -> bool:
    return isinstance(value, list) and isinstance(value[0], dict)


def _yaml(value: dict[str, Any]) -> str:
    # the innermost mappings in one line each, so that a rule is a line and diffs are by rule
    text: str = yaml.dump(value, Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=1000)
    return text


def _mapping(dumper: Any, value: dict[str, Any]) -> yaml.Node:
    flat = all(not isinstance(part, (dict, list)) for part in value.values())
    in_a_line = flat and "key" not in value and "portero" not in value
    return dumper.represent_mapping("tag:yaml.org,2002:map", value, flow_style=in_a_line)


def _list(dumper: Any, value: list[Any]) -> yaml.Node:
    flat = all(not isinstance(item, (dict, list)) for item in value)
    return dumper.represent_sequence("tag:yaml.org,2002:seq", value, flow_style=flat)


_Dumper: Any = type("_Dumper", (yaml.CSafeDumper,), {})
_Dumper.add_representer(dict, _mapping)
_Dumper.add_representer(list, _list)


def _read(placed: PlacedValues | PlacedFiles, model: type[Document], version_key: str) -> Document:
    value = placed.value
    if not isinstance(value, dict) or version_key not in value:
        message = f"this is no {version_key} document: it must begin with “{version_key}: 1”"
        raise BadDocument([placed.problem((), message)])
    if model is Estate:
        _key_assignments(value)
    return _checked(placed, value, model)


def _checked(
    placed: PlacedValues | PlacedFiles, value: Any, model: type[Document], within: Path | None = None
) -> Document:
    """The value as a noun. `within` is where the document itself has what stands under the value's first key."""

    head: Path = within or ()
    dropped: int = 0 if within is None else 1

    def placed_problem(path: Path, message: str) -> DocumentProblem:
        return placed.problem((*head, *path[dropped:]), message)

    try:
        document = model.model_validate(value)
    except ValidationError as problem:
        raise BadDocument(
            [placed_problem(*told) for told in (tell(error, model) for error in problem.errors())]
        ) from problem
    if isinstance(document, Estate):
        document = filled(document, {})
    faults = [placed_problem(fault.path, fault.message) for fault in document.faults()]
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
            name = first.get("device") if isinstance(first, dict) else first
            if isinstance(name, str):
                entry["key"] = made_key(entry["ruleset"], name, taken)
                taken.add(entry["key"])


def tell(error: Any, model: type[BaseModel]) -> tuple[Path, str]:
    """A Pydantic error as a path into the document and a sentence that says what to do."""
    path: Path = without_tags(error["loc"])
    kind, message = error["type"], fault_of(error)
    if kind == "extra_forbidden":
        name = str(path[-1])
        near = get_close_matches(name, _known_keys(model, path[:-1]), n=1)
        message = f"unknown key “{name[:64]}”" + (f"; did you mean “{near[0]}”?" if near else "")
    elif kind == "missing":
        message = f"“{path[-1]}” is missing"
    else:
        message = message[0].lower() + message[1:]
    return path, message


def _known_keys(model: type[BaseModel], path: Path) -> list[str]:
    """The keys that are known where the path leads to."""
    models: set[type[BaseModel]] = {model}
    for part in path:
        if isinstance(part, str):
            fields = [field for one in models for name, field in _fields(one).items() if name == part]
            models = {inner for field in fields for inner in _models_in(field.annotation)}
    return sorted({name for one in models for name in _fields(one)})


def _fields(model: type[BaseModel]) -> dict[str, FieldInfo]:
    """The fields of a model, as a document names them."""
    return {field.alias or name: field for name, field in model.model_fields.items()}


def _models_in(annotation: Any) -> set[type[BaseModel]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return {annotation}
    return {model for inner in get_args(annotation) for model in _models_in(inner)}

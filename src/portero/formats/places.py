"""YAML 1.2 (and so JSON) as plain values, with the line and column of everything, within bounds."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

import yaml

MAX_BYTES = 20_000_000
MAX_NODES = 2_000_000
MAX_DEPTH = 30

Path = tuple[str | int, ...]


class DocumentProblem(NamedTuple):
    """Something wrong in a document: line and column (from 1; 0 where there is none), path, what, and in which file."""

    line: int
    column: int
    path: Path
    message: str
    file: str = ""

    def __str__(self) -> str:
        where = f"line {self.line}, column {self.column}: " if self.line else ""
        where = f"{self.file}: {where}" if self.file else where
        at = f" (at {pointer(self.path)})" if self.path else ""
        return f"{where}{self.message}{at}"


class BadDocument(ValueError):
    """A document that cannot be taken, with every problem found in it."""

    def __init__(self, problems: list[DocumentProblem]) -> None:
        super().__init__("; ".join(str(problem) for problem in problems[:5]))
        self.problems = problems


def pointer(path: Path) -> str:
    """The path as a JSON Pointer (RFC 6901)."""
    return "".join("/" + str(part).replace("~", "~0").replace("/", "~1") for part in path)


class PlacedFiles:
    """Several files read as one document: their lists follow each other in the order of the files' names."""

    def __init__(self, files: Mapping[str, bytes]) -> None:
        self.value: dict[str, Any] = {}
        self._origins: dict[str, list[tuple[str, PlacedValues, int]]] = {}
        """Where each item of a list stands, and each key that is none: file, its values, place in its own list."""
        for name in sorted(files):
            try:
                self._add(name, PlacedValues(files[name]))
            except BadDocument as problem:
                raise BadDocument([fault._replace(file=fault.file or name) for fault in problem.problems]) from problem

    def _add(self, name: str, placed: PlacedValues) -> None:
        if not isinstance(placed.value, dict):
            raise BadDocument([DocumentProblem(1, 1, (), "this is no document: it has no keys")])
        for key, value in placed.value.items():
            origins = self._origins.setdefault(key, [])
            before = self.value.get(key)
            if isinstance(value, list) and (before is None or isinstance(before, list)):
                self.value[key] = [*(before or ()), *value]
                origins += [(name, placed, number) for number in range(len(value))]
            elif origins and value != before:
                raise BadDocument(
                    [placed.problem((key,), f"“{key}” stands in {origins[0][0]} already; keep it in one")]
                )
            else:
                self.value[key] = value
                origins.append((name, placed, -1))

    def problem(self, path: Path, message: str) -> DocumentProblem:
        """A problem at the path, in the file that it comes from."""
        origins = self._origins.get(str(path[0]), []) if path else []
        if not origins:
            return DocumentProblem(0, 0, path, message)
        listed = len(path) > 1 and isinstance(path[1], int) and origins[0][2] >= 0
        name, placed, number = origins[min(int(path[1]), len(origins) - 1)] if listed else origins[0]
        own = (path[0], number, *path[2:]) if listed else path
        return placed.problem(own, message)._replace(file=name)


class _Node(NamedTuple):
    """A part of the document: where it begins, and a scalar's value, a list's nodes or a mapping's pairs of nodes."""

    line: int
    column: int
    kind: str
    value: Any
    size: int = 1
    """How many values it comes to, itself and those of its aliases counted."""


class PlacedValues:
    """A document's plain value, and where each part of it stands."""

    def __init__(self, data: bytes) -> None:
        self._root = _compose(data)
        self.value: Any = None if self._root is None else self._plain(self._root, ())

    def place(self, path: Path) -> tuple[int, int]:
        """Line and column of the path, or of the nearest thing above it."""
        node = self._root
        if node is None:
            return 0, 0
        where = node.line, node.column
        for part in path:
            if node.kind == "mapping":
                found = next(((key, value) for key, value in node.value if key.value == str(part)), None)
                if found is None:
                    break
                where, node = (found[0].line, found[0].column), found[1]
            elif node.kind == "list" and isinstance(part, int) and part < len(node.value):
                node = node.value[part]
                where = node.line, node.column
            else:
                break
        return where

    def problem(self, path: Path, message: str) -> DocumentProblem:
        """A problem at the path."""
        return DocumentProblem(*self.place(path), path=path, message=message)

    def _plain(self, node: _Node, path: Path) -> Any:
        if node.kind == "scalar":
            return node.value
        if len(path) > MAX_DEPTH:
            raise _too_deep(node.line, node.column)
        if node.kind == "list":
            return [self._plain(child, (*path, number)) for number, child in enumerate(node.value)]
        result: dict[str, Any] = {}
        for key_node, value_node in node.value:
            key = key_node.value
            if key in result:
                message = f"the key “{key[:64]}” stands twice; keep one of them"
                raise BadDocument([DocumentProblem(key_node.line, key_node.column, (*path, key), message)])
            result[key] = self._plain(value_node, (*path, key))
        return result


def _too_deep(line: int, column: int) -> BadDocument:
    return BadDocument([DocumentProblem(line, column, (), f"nested deeper than {MAX_DEPTH} levels")])


def _text_of(data: bytes) -> str:
    if len(data) > MAX_BYTES:
        raise BadDocument([DocumentProblem(0, 0, (), f"the document is over {MAX_BYTES // 1_000_000} MB")])
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as problem:
        line = data[: problem.start].count(b"\n") + 1
        raise BadDocument([DocumentProblem(line, 1, (), "not UTF-8 text; save the document as UTF-8")]) from problem
    # JSON writes what lies beyond the first plane as a pair of escapes, which YAML does not know
    return _PAIR.sub(_joined_pair, text) if text.lstrip()[:1] in ("{", "[") else text


_PAIR = re.compile(r"\\u[dD][89abAB][0-9a-fA-F]{2}\\u[dD][c-fC-F][0-9a-fA-F]{2}")


def _joined_pair(found: re.Match[str]) -> str:
    return found[0].encode().decode("unicode_escape").encode("utf-16", "surrogatepass").decode("utf-16")


def _compose(data: bytes) -> _Node | None:
    """The document as nodes. Read event by event, so that nothing nested deeper than is allowed is ever gone into."""
    text = _text_of(data)
    try:
        events = yaml.parse(text, Loader=yaml.CSafeLoader)
        composer = _Composer(iter(events))
        return composer.document()
    except yaml.MarkedYAMLError as problem:
        mark = problem.problem_mark or problem.context_mark
        where = (mark.line + 1, mark.column + 1) if mark else (0, 0)
        said = f"not YAML: {problem.problem or problem.context}"
        raise BadDocument([DocumentProblem(where[0], where[1], (), said)]) from problem
    except yaml.YAMLError as problem:
        raise BadDocument([DocumentProblem(0, 0, (), f"not YAML: {str(problem).splitlines()[0][:200]}")]) from problem


class _Composer:
    """Makes nodes of the parser's events."""

    def __init__(self, events: Iterator[yaml.Event]) -> None:
        self._events = events
        self._anchors: dict[str, _Node] = {}

    def document(self) -> _Node | None:
        root = None
        for event in self._events:
            if isinstance(event, yaml.DocumentStartEvent):
                if root is not None:
                    raise self._refused(event, "a second document begins here; put each in a file of its own")
            elif isinstance(event, yaml.NodeEvent):
                root = self._node(event, 0)
        return root

    def _refused(self, event: yaml.Event, message: str) -> BadDocument:
        return BadDocument([DocumentProblem(event.start_mark.line + 1, event.start_mark.column + 1, (), message)])

    def _node(self, event: yaml.Event, depth: int) -> _Node:
        line, column = event.start_mark.line + 1, event.start_mark.column + 1
        if depth > MAX_DEPTH + 1:
            raise _too_deep(line, column)
        if isinstance(event, yaml.AliasEvent):
            known = self._anchors.get(event.anchor)
            if known is None:
                raise self._refused(event, f"the alias *{event.anchor[:64]} stands for nothing that ends before it")
            return known
        if isinstance(event, yaml.ScalarEvent):
            node = _Node(line, column, "scalar", _scalar(event))
        elif isinstance(event, yaml.SequenceStartEvent):
            items = [self._node(one, depth + 1) for one in self._until(yaml.SequenceEndEvent)]
            node = _Node(line, column, "list", items, 1 + sum(item.size for item in items))
        else:
            pairs = list(self._pairs(depth))
            node = _Node(line, column, "mapping", pairs, 1 + sum(one.size for _, one in pairs))
        if node.size > MAX_NODES:
            raise self._refused(event, f"more than {MAX_NODES:,} values, aliases counted each time they are used")
        if event.anchor is not None:
            self._anchors[event.anchor] = node
        return node

    def _until(self, end: type[yaml.Event]) -> Iterator[yaml.Event]:
        for event in self._events:
            if isinstance(event, end):
                return
            yield event

    def _pairs(self, depth: int) -> Iterator[tuple[_Node, _Node]]:
        for event in self._until(yaml.MappingEndEvent):
            if not isinstance(event, yaml.ScalarEvent):
                raise self._refused(event, "a key must be plain text")
            key = _Node(event.start_mark.line + 1, event.start_mark.column + 1, "scalar", event.value)
            yield key, self._node(next(self._events), depth + 1)


_INTEGER = re.compile(r"^[-+]?[0-9]+$|^0o[0-7]+$|^0x[0-9a-fA-F]+$")
_WORDS = {
    word: value
    for value, name in ((True, "true"), (False, "false"), (None, "null"))
    for word in (name, name.title(), name.upper())
}
_WORDS |= {"": None, "~": None}
_LONGEST_NUMBER = 20


def _scalar(event: yaml.ScalarEvent) -> Any:
    """By the core schema of YAML 1.2: booleans, whole numbers and null as such; all else stays the text that it is."""
    text: str = event.value
    if not event.implicit[0] or event.tag is not None:
        return text
    if text in _WORDS:
        return _WORDS[text]
    if len(text) <= _LONGEST_NUMBER and _INTEGER.match(text):
        return int(text, 0) if text[:2] in ("0o", "0x") else int(text)
    return text

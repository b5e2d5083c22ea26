"""YAML 1.2 (and so JSON) as plain values, with the line and column of everything, within bounds."""

from __future__ import annotations

from typing import Any, NamedTuple

from ruamel.yaml import YAML
from ruamel.yaml.error import MarkedYAMLError, YAMLError
from ruamel.yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

MAX_BYTES = 20_000_000
MAX_NODES = 2_000_000
MAX_DEPTH = 30

Path = tuple[str | int, ...]


class Problem(NamedTuple):
    """Something wrong in a document: line and column (from 1; 0 where there is none), path, and what."""

    line: int
    column: int
    path: Path
    message: str

    def __str__(self) -> str:
        where = f"line {self.line}, column {self.column}: " if self.line else ""
        at = f" (at {pointer(self.path)})" if self.path else ""
        return f"{where}{self.message}{at}"


class BadDocument(ValueError):
    """A document that cannot be taken, with every problem found in it."""

    def __init__(self, problems: list[Problem]) -> None:
        super().__init__("; ".join(str(problem) for problem in problems[:5]))
        self.problems = problems


def pointer(path: Path) -> str:
    """The path as a JSON Pointer (RFC 6901)."""
    return "".join("/" + str(part).replace("~", "~0").replace("/", "~1") for part in path)


class PlacedValues:
    """A document's plain value, and where each part of it stands."""

    def __init__(self, data: bytes) -> None:
        self.value: Any = None
        self._marks: dict[Path, tuple[int, int]] = {}
        self._nodes = 0
        root = _compose(data)
        if root is not None:
            self.value = self._plain(root, ())

    def place(self, path: Path) -> tuple[int, int]:
        """Line and column of the path, or of the nearest thing above it."""
        while path and path not in self._marks:
            path = path[:-1]
        return self._marks.get(path, (0, 0))

    def problem(self, path: Path, message: str) -> Problem:
        """A problem at the path."""
        return Problem(*self.place(path), path=path, message=message)

    def _refuse(self, node: Node, path: Path, message: str) -> BadDocument:
        mark = node.start_mark
        return BadDocument([Problem(mark.line + 1, mark.column + 1, path, message)])

    def _plain(self, node: Node, path: Path) -> Any:
        self._nodes += 1
        if len(path) > MAX_DEPTH:
            raise self._refuse(node, (), f"nested deeper than {MAX_DEPTH} levels")
        if self._nodes > MAX_NODES:
            raise self._refuse(node, (), f"more than {MAX_NODES:,} values, aliases counted each time they are used")
        self._marks[path] = (node.start_mark.line + 1, node.start_mark.column + 1)
        if isinstance(node, ScalarNode):
            return _scalar(node)
        if isinstance(node, SequenceNode):
            return [self._plain(child, (*path, number)) for number, child in enumerate(node.value)]
        assert isinstance(node, MappingNode)
        return self._mapping(node, path)

    def _mapping(self, node: MappingNode, path: Path) -> dict[str, Any]:
        result: dict[str, Any] = {}
        for key_node, value_node in node.value:
            if not isinstance(key_node, ScalarNode):
                raise self._refuse(key_node, path, "a key must be plain text")
            key = key_node.value
            if key in result:
                raise self._refuse(key_node, (*path, key), f"the key “{key}” stands twice; keep one of them")
            result[key] = self._plain(value_node, (*path, key))
            self._marks[(*path, key)] = (key_node.start_mark.line + 1, key_node.start_mark.column + 1)
        return result


def _compose(data: bytes) -> Node | None:
    if len(data) > MAX_BYTES:
        raise BadDocument([Problem(0, 0, (), f"the document is over {MAX_BYTES // 1_000_000} MB")])
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as problem:
        line = data[: problem.start].count(b"\n") + 1
        raise BadDocument([Problem(line, 1, (), "not UTF-8 text; save the document as UTF-8")]) from problem
    try:
        return YAML(typ="rt", pure=True).compose(text)  # type: ignore[no-any-return]
    except RecursionError as problem:
        raise BadDocument([Problem(0, 0, (), f"nested deeper than {MAX_DEPTH} levels")]) from problem
    except MarkedYAMLError as problem:
        mark = problem.problem_mark or problem.context_mark
        where = (mark.line + 1, mark.column + 1) if mark else (0, 0)
        raise BadDocument(
            [Problem(where[0], where[1], (), f"not YAML: {problem.problem or problem.context}")]
        ) from problem
    except YAMLError as problem:
        raise BadDocument([Problem(0, 0, (), f"not YAML: {str(problem).splitlines()[0][:200]}")]) from problem


def _scalar(node: ScalarNode) -> Any:
    """Booleans, whole numbers and null as such; everything else stays the text that it is."""
    kind = str(node.tag).rpartition(":")[2]
    if kind == "null":
        return None
    if kind == "bool":
        return node.value.lower() == "true"
    if kind == "int":
        try:
            return int(node.value, 0)
        except ValueError:
            return node.value
    return node.value

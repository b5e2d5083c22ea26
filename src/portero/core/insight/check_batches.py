"""Many attempts, one a line of JSON: each judged by itself, and what cannot be judged told in its place."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any, TypeVar

from pydantic import ValidationError

from portero.core.insight.offline import UnknownDevice
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.base import without_tags
from portero.core.nouns.faults import fault_of
from portero.core.nouns.urls import BadUrl
from portero.core.nouns.verdict import BriefVerdict, Explanation, Unjudged, UnjudgedProblem

MAX_LINE = 64_000

_TITLES = {"bad-request": "The line cannot be read", "invalid": "Not valid", "not-found": "Not found"}


Answer = TypeVar("Answer", Explanation, BriefVerdict)


def judge_line(line: str | bytes, judge: Callable[[Attempt], Answer]) -> Answer | Unjudged:
    """The answer to a line of JSON, or the problem with it. `judge` may raise UnknownDevice and BadUrl."""
    value = value_of(line)
    return value if isinstance(value, Unjudged) else judge_value(value, judge)


def value_of(line: str | bytes) -> Any:
    """A line of JSON as plain values, or the problem with it."""
    if len(line) > MAX_LINE:
        return unjudged(None, "bad-request", f"the line is over {MAX_LINE // 1000} kB")
    try:
        return json.loads(line)
    except (ValueError, RecursionError) as problem:
        return unjudged(None, "bad-request", f"not JSON: {problem}")


def judge_value(value: Any, judge: Callable[[Attempt], Answer]) -> Answer | Unjudged:
    """The same for an attempt that is plain values already."""
    id = value.get("id") if isinstance(value, dict) else None
    id = id if isinstance(id, (str, int)) else None
    try:
        return judge(Attempt.model_validate(value))
    except ValidationError as problem:
        return unjudged(id, "invalid", _fault(problem))
    except UnknownDevice as problem:
        return unjudged(id, "not-found", str(problem))
    except BadUrl as problem:
        return unjudged(id, "invalid", str(problem))


def unjudged(id: str | int | None, kind: str, detail: str) -> Unjudged:
    """An attempt that cannot be judged, and why."""
    detail = detail[:1].upper() + detail[1:] + ("" if detail.endswith(".") else ".")
    problem = UnjudgedProblem(type=f"urn:portero:problem:{kind}", title=_TITLES[kind], detail=detail)
    return Unjudged(id=id, problem=problem)


def _fault(problem: ValidationError) -> str:
    first = problem.errors()[0]
    where = ".".join(str(part) for part in without_tags(first["loc"]))
    message = "this key is not known" if first["type"] == "extra_forbidden" else fault_of(first)
    return f"{where}: {message}" if where else message

"""What another estate would change: object by object, and on how many machines."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from typing import Any

from portero.core.insight.differences import differences
from portero.core.nouns.comparison import EstateComparison, VerdictChange
from portero.core.nouns.estate import KEYED, Estate
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.resolving.bundles import compile_bundle
from portero.core.resolving.policy import Frame, Policy
from portero.core.resolving.situations import Situation
from portero.core.sentences import change_sentence

Classes = Counter[tuple[tuple[str, ...], tuple[str, ...]]]
"""How many devices have which groups before and after, strongest first."""

_BY_OTHER_KEYS = {"corrections": "host", "layer_modes": "group", "coverage": "key"}


def keeping_others(before: Estate, document: Estate) -> Estate:
    """The estate with what the document names in place of what it has; all that the document does not name stays."""
    parts: dict[str, Any] = {}
    for attribute, by in {**dict.fromkeys(KEYED, "key"), **_BY_OTHER_KEYS}.items():
        parts[attribute] = _merged(getattr(before, attribute), getattr(document, attribute), by)
    if "settings" not in document.model_fields_set:
        parts["settings"] = before.settings
    named = document.precedence
    parts["precedence"] = (*named, *(key for key in before.precedence if key not in named))
    return document.replacing(**parts)


def _merged(before: Sequence[Any], named: Sequence[Any], by: str) -> tuple[Any, ...]:
    own = {getattr(one, by): one for one in named}
    kept = [own.pop(getattr(one, by), one) for one in before]
    return (*kept, *own.values())


def compare(
    before: Estate, after: Estate, classes: Classes, now: datetime, out_of_time: Callable[[], bool]
) -> EstateComparison:
    """What `after` would change for everybody now; stops, and says so, when it is out of time.

    Verdicts are those of web categories, for nobody in particular.
    """
    changes = tuple(differences(before, after))
    devices, complete = 0, True
    verdicts: Counter[tuple[str, str, str]] = Counter()
    for (groups, then), count in classes.most_common() if changes else ():
        if out_of_time():
            complete = False
            break
        old, new = compile_bundle(before, groups), compile_bundle(after, then)
        if old == new:
            continue
        devices += count
        for change in verdict_changes(Policy(old).frame(Situation(now)), Policy(new).frame(Situation(now))):
            verdicts[change] += count
    return EstateComparison(
        changes=changes,
        sentences=tuple(map(change_sentence, changes)),
        devices=devices,
        verdicts=as_changes(verdicts),
        complete=complete,
    )


def as_changes(verdicts: Counter[tuple[str, str, str]]) -> tuple[VerdictChange, ...]:
    """Counted changes, the most first."""
    return tuple(
        VerdictChange(category=category, before=before, after=then, devices=number)
        for (category, before, then), number in verdicts.most_common()
    )


def verdict_changes(before: Frame, after: Frame) -> Iterator[tuple[str, str, str]]:
    """The categories that come to another verdict, with what they came to and what they come to."""
    for category in TAXONOMY.categories:
        was, then = before.category(category).winner, after.category(category).winner
        words = (was.action if was else "allow", then.action if then else "allow")
        if words[0] != words[1]:
            yield category, *words

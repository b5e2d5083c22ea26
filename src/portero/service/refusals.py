"""What no change of the estate may do."""

from __future__ import annotations

from collections.abc import Sequence

from portero.core import wording
from portero.core.insight.capacity import overload
from portero.core.nouns.base import Fault
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.nouns.preview import Forecast, GateFailure
from portero.service.problems import Refusal, field_error
from portero.service.roster import Roster


def refuse_faults(document: Estate | Directory) -> None:
    """Refusal where the parts of a document do not fit together."""
    _refuse(list(document.faults()))


def refuse_new_faults(before: Estate, after: Estate) -> None:
    """Refusal where the parts of an estate do not fit together any more, that did before."""
    _refuse(list(after.faults(before)))


def _refuse(faults: Sequence[Fault]) -> None:
    if faults:
        errors = [field_error(fault.path, fault.message) for fault in faults]
        raise Refusal("invalid", wording.as_sentence(faults[0].message), errors=errors)


def refuse_other_kinds(before: Estate, after: Estate) -> None:
    """Refusal where a feed would bring something else than so far: what it brought would be of no use."""
    kinds = {feed.key: feed.kind for feed in before.feeds}
    for feed in after.feeds:
        had = kinds.get(feed.key, feed.kind)
        if had != feed.kind:
            raise Refusal("invalid", f"The feed “{feed.key}” brings {had}, and that never changes; make another feed.")


def refuse_overload(before: Estate, after: Estate, roster: Roster) -> None:
    """Refusal where machines would have more indicators to carry than they may, and more than they have now."""
    found = overload(before, after, roster.fleet.combinations)
    if found is not None:
        raise Refusal("invalid", found)


def refuse_unproved(forecasts: Sequence[Forecast]) -> None:
    """Refusal of a change that does not lead to what the probes that it carries expect."""
    lacking = [one for one in forecasts if one.refused]
    if not lacking:
        return
    first = lacking[0]
    more = f" And {len(lacking) - 1:,} more." if len(lacking) > 1 else ""
    raise Refusal(
        "unproved",
        f"Probe {first.number} of {first.set}, {first.tried}, would not come out: {first.sentence}{more}"
        " The change was not made.",
        proof=[one.model_dump(mode="json", exclude_none=True) for one in lacking[:20]],
    )


def refuse_ungated(failures: Sequence[GateFailure]) -> None:
    """Refusal of a change that fails probes of the gate."""
    if not failures:
        return
    more = f" And {len(failures) - 1:,} more." if len(failures) > 1 else ""
    raise Refusal(
        "gate",
        f"{failures[0].sentence}{more} The change was not made; a keeper may overrule the gate, with a reason.",
        gate=[one.model_dump(mode="json", exclude_none=True) for one in failures[:20]],
    )

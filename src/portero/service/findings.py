"""What is to be settled, and what somebody has accepted of it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

from portero.core.insight.findings.finding import Found
from portero.core.nouns.finding import SEVERITIES, Acceptance, Finding, Findings, NewAcceptance
from portero.service.foresight import Foresight
from portero.service.live import Live
from portero.service.problems import Refusal, field_error
from portero.service.state import Current
from portero.store import findings as accepting
from portero.store.database import Store
from portero.store.moments import moment


class FindingsKeeper:
    """Finds, and keeps acceptances."""

    def __init__(
        self, store: Store, current: Current, foresight: Foresight, live: Live, clock: Callable[[], float]
    ) -> None:
        self._store, self._current, self._foresight, self._live, self._now = store, current, foresight, live, clock

    def all(self) -> Findings:
        """What is to be settled, with what somebody has accepted marked."""
        snapshot = self._current.snapshot
        found = self._foresight.findings(snapshot.estate, snapshot.revision)
        with self._store.reading() as connection:
            accepted = accepting.accepted(connection, self._now())
        items = tuple(
            item.model_copy(update={"accepted": accepted[item.id]}) if item.id in accepted else item
            for item in found.items
        )
        counts = Counter(item.severity for item in items if item.is_open)
        return Findings.model_construct(
            revision=snapshot.revision,
            items=items,
            total=len(items),
            open={severity: counts[severity] for severity in SEVERITIES},
            kinds=dict(Counter(item.kind for item in items if item.is_open)),
            accepted=sum(not item.is_open for item in items),
        )

    def get(self, id: str) -> Finding:
        """One of them. Refusal."""
        for item in self.all().items:
            if item.id == id:
                return item
        raise no_finding(id)

    def with_devices(self) -> Found:
        """What is to be settled, with all devices that each finding is about."""
        snapshot = self._current.snapshot
        return self._foresight.findings(snapshot.estate, snapshot.revision)

    def accept(self, id: str, new: NewAcceptance, by: str) -> Finding:
        """Say why one may stay as it is, and until when. Refusal."""
        now = moment(self._now())
        if new.until <= now:
            raise Refusal(
                "invalid",
                "The end of the acceptance has passed; give a later one.",
                errors=[field_error(["until"], "past")],
            )
        self.get(id)
        with self._store.writing() as connection:
            accepting.accept(connection, id, Acceptance(by=by, at=now, reason=new.reason, until=new.until))
        self._live.tell("finding")
        return self.get(id)

    def reopen(self, id: str) -> None:
        """Open one again that somebody has accepted. Refusal where nobody has."""
        with self._store.writing() as connection:
            if not accepting.take_back(connection, id):
                raise Refusal("not-found", f"Nobody has accepted a finding “{id[:200]}”.")
        self._live.tell("finding")


def no_finding(id: str) -> Refusal:
    """There is none of that id."""
    return Refusal("not-found", f"There is no finding “{id[:200]}” (any more): what it was about may be settled.")

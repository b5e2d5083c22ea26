"""The client: one attribute a noun, models in and out, lists that page by themselves."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from importlib import import_module
from typing import TYPE_CHECKING, Any, Self

from portero.client.collection import Collection
from portero.client.connection import Connection, Previewed
from portero.client.transport import Transport, Working

if TYPE_CHECKING:
    from portero.client.access import AccessPart
    from portero.client.activity import ActivityPart
    from portero.client.address_lists import AddressLists
    from portero.client.administrators import Administrators
    from portero.client.application_corrections import ApplicationCorrections
    from portero.client.application_sets import ApplicationSets
    from portero.client.applications import ApplicationsPart
    from portero.client.assignments import Assignments
    from portero.client.audit import AuditPart
    from portero.client.board import BoardPart
    from portero.client.categories import Categories
    from portero.client.checks import ChecksPart
    from portero.client.compared import ComparedPart
    from portero.client.corrections import Corrections
    from portero.client.coverage import Coverage
    from portero.client.devices import Devices
    from portero.client.directory import DirectoryPart
    from portero.client.enrolment import EnrolmentPart
    from portero.client.epoch import EpochPart
    from portero.client.errands import ErrandsPart
    from portero.client.estate import EstateDocument
    from portero.client.evidence import EvidencePart
    from portero.client.feeds import Feeds
    from portero.client.findings import FindingsPart
    from portero.client.groups import Groups
    from portero.client.indicators import IndicatorsPart
    from portero.client.layer_modes import LayerModes
    from portero.client.notices import Notices
    from portero.client.probe_sets import ProbeSets
    from portero.client.pushes import PushesPart
    from portero.client.readiness import ReadinessPart
    from portero.client.restrictions import RestrictionsPart
    from portero.client.revisions import Revisions
    from portero.client.rulesets import Rulesets
    from portero.client.runs import RunsPart
    from portero.client.schedules import Schedules
    from portero.client.services import Services
    from portero.client.settings import SettingsPart
    from portero.client.worklist import WorklistPart
    from portero.core.nouns.preview import Preview


class Portero:
    """A service, as seen by whoever holds the token.

    Times out by default. Repeats only what is safe to repeat. Every problem is raised as an exception.
    An attribute is loaded when it is first used, with the models that it needs and no others.
    """

    access: AccessPart
    activity: ActivityPart
    address_lists: AddressLists
    administrators: Administrators
    application_corrections: ApplicationCorrections
    application_sets: ApplicationSets
    applications: ApplicationsPart
    assignments: Assignments
    audit: AuditPart
    board: BoardPart
    categories: Categories
    checks: ChecksPart
    compared: ComparedPart
    corrections: Corrections
    coverage: Coverage
    devices: Devices
    directory: DirectoryPart
    enrolment: EnrolmentPart
    epoch: EpochPart
    errands: ErrandsPart
    estate: EstateDocument
    evidence: EvidencePart
    feeds: Feeds
    findings: FindingsPart
    groups: Groups
    indicators: IndicatorsPart
    layer_modes: LayerModes
    notices: Notices
    probe_sets: ProbeSets
    pushes: PushesPart
    readiness: ReadinessPart
    restrictions: RestrictionsPart
    revisions: Revisions
    rulesets: Rulesets
    runs: RunsPart
    schedules: Schedules
    services: Services
    settings: SettingsPart
    worklist: WorklistPart

    def __init__(
        self,
        url: str,
        *,
        token: str | None = None,
        timeout: float = 30.0,
        previews: bool = False,
        overrules: bool = False,
        proves: Sequence[str] = (),
        working: Working | None = None,
    ) -> None:
        """`overrules`: changes are made although they fail a probe of the gate; for keepers, who give a reason.
        `proves`: the probes that changes carry, which prove them: keys of probe sets, or such as “block
        reeltide.example on ships”. `working` is entered while an answer takes its time, and gives what is told how far
        it is: what is looked at, how much is done, of how much.
        """
        self._connection = Connection(Transport(url, token, timeout, working), previews, overrules, proves)

    def __getattr__(self, name: str) -> Any:
        # what is declared above stands in the module of its name
        declared = Portero.__annotations__.get(name)
        if declared is None:
            part = self._collection(name)
        else:
            part = getattr(import_module(f"portero.client.{name}"), declared)(self._connection)
        setattr(self, name, part)
        return part

    def _collection(self, name: str) -> Collection[Any, Any, Any]:
        """The objects of a noun that has no class of its own, by its list in the estate document."""
        from portero.core.nouns.estate import NOUNS  # all models; seldom needed

        found = next((noun for noun in NOUNS.values() if noun.list == name), None)
        if found is None:
            raise AttributeError(f"a service has no “{name}”")
        return Collection(self._connection, found)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_exception: object) -> None:
        self.close()

    def close(self) -> None:
        """Close the connections."""
        self._connection.transport.close()

    def preview(self, change: Callable[[Portero], object]) -> Preview:
        """What a change of the estate would do; nothing is kept. Raises what the change itself would.

        >>> portero.preview(lambda asked: asked.assignments.remove("quiet-link--satellite"))   # doctest: +SKIP
        """
        with self.previewing() as asked:
            try:
                change(asked)
            except Previewed as answer:
                return answer.preview
        raise ValueError("the change asked for nothing that can be previewed")

    def previewing(self) -> Portero:
        """The same client, whose changes are only previewed: each raises Previewed, with the preview."""
        return self._like(previews=True, proves=self._connection.proves)

    def proving(self, *probes: str) -> Portero:
        """The same client, whose changes carry probes that are to prove them. They raise Unproved where they do not
        lead to what is expected.

        >>> portero.proving("block reeltide.example on ships").assignments.create(assignment)   # doctest: +SKIP
        """
        return self._like(proves=probes)

    def _like(self, **options: Any) -> Portero:
        transport = self._connection.transport
        return Portero(
            transport.url, token=transport.token, timeout=transport.timeout, working=transport.working, **options
        )

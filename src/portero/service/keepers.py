"""The parts of one running service, each given what it needs and no more."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from portero.core.insight.brought_rules import filled
from portero.formats.manifests import public_text_of
from portero.service.administrators import AdministratorsKeeper
from portero.service.auditing import Auditor
from portero.service.bundles import Bundles
from portero.service.checks import Checks
from portero.service.directory import DirectoryKeeper
from portero.service.drawing_up import DrawingUp
from portero.service.enrolment import EnrolmentKeeper
from portero.service.errands import Errands
from portero.service.estate import EstateKeeper
from portero.service.evidence import EvidenceKeeper
from portero.service.feeds.comparing import Comparisons
from portero.service.feeds.fetching import Bounds
from portero.service.feeds.holdings import Holdings
from portero.service.feeds.polling import FeedsKeeper
from portero.service.findings import FindingsKeeper
from portero.service.fleet import FleetKeeper
from portero.service.foresight import Foresight
from portero.service.guessing import Guessing
from portero.service.housekeeping import Housekeeper
from portero.service.indicators import IndicatorsKeeper
from portero.service.last_heard import Heard
from portero.service.last_used import LastUsed
from portero.service.live import Live
from portero.service.lookups import Lookups
from portero.service.observations import Observations
from portero.service.observing import Observing
from portero.service.older_forms import OlderForms
from portero.service.planning import Planner
from portero.service.proving import Proving
from portero.service.pseudonyms import Pseudonyms
from portero.service.publishing import Publisher
from portero.service.pushes import Pushes
from portero.service.register import Register
from portero.service.repeating import Repeating
from portero.service.roster import Roster
from portero.service.ruleset_texts import RulesetTexts
from portero.service.runs import Runs
from portero.service.secrets import evidence_key, signing_key
from portero.service.side_by_side import SideBySide
from portero.service.signing_in import SignIns
from portero.service.standings import Standings
from portero.service.state import Current, Naming, Snapshot
from portero.service.verifying import Verifying
from portero.service.whys import Whys
from portero.store import catalogue, epochs, revisions
from portero.store.data_folder import DataFolder
from portero.store.database import Store
from portero.store.estate import load_estate


@dataclass(frozen=True)
class Keepers:
    """One running service's keepers. Each is safe to use from several threads; none knows the others but those it was
    given.
    """

    folder: DataFolder
    now: Callable[[], float]
    store: Store
    live: Live
    heard: Heard
    register: Register
    administrators: AdministratorsKeeper
    auditor: Auditor
    pseudonyms: Pseudonyms
    guessing: Guessing
    sign_ins: SignIns
    last_used: LastUsed
    public_key: str
    publisher: Publisher
    estate: EstateKeeper
    fleet: FleetKeeper
    people: DirectoryKeeper
    bundles: Bundles
    older_forms: OlderForms
    checks: Checks
    foresight: Foresight
    findings: FindingsKeeper
    texts: RulesetTexts
    holdings: Holdings
    feeds: FeedsKeeper
    comparisons: Comparisons
    lookups: Lookups
    whys: Whys
    standings: Standings
    runs: Runs
    verifying: Verifying
    observing: Observing
    observations: Observations
    repeating: Repeating
    evidence: EvidenceKeeper
    proving: Proving
    drawing_up: DrawingUp
    side_by_side: SideBySide
    indicators: IndicatorsKeeper
    enrolment: EnrolmentKeeper
    pushes: Pushes
    errands: Errands
    housekeeper: Housekeeper

    def let_time_pass(self) -> None:
        """Feeds that are due, devices that have fallen silent, programs that came, the hourly count of indicators,
        what is too old.
        """
        self.feeds.poll_due()
        self.indicators.count_hourly()
        self.fleet.let_time_pass()
        self.estate.look_into_folders()
        self.estate.note_newcomers()
        self.pushes.write()
        self.repeating.let_time_pass()
        self.housekeeper.let_time_pass()
        self.last_used.write()

    def close(self) -> None:
        """Close the store; nothing more is read."""
        self.sign_ins.close()
        self.verifying.close()
        self.observing.close()
        self.feeds.close()
        self.heard.write()
        self.pushes.write()
        self.last_used.write()
        self.store.close()
        self.folder.close()


def open_keepers(folder: Path, clock: Callable[[], float] = time.time, bounds: Bounds = Bounds()) -> Keepers:
    """The keepers of the service whose data is in a folder, which is made where there is none. StoreProblem."""
    held = DataFolder(folder)
    try:
        return _opened(held, clock, bounds)
    except BaseException:
        held.close()
        raise


def _opened(held: DataFolder, clock: Callable[[], float], bounds: Bounds) -> Keepers:
    folder = held.path
    store, live, key = Store(held.database), Live(), signing_key(folder)
    with store.reading() as connection:
        (written, versions), revision = load_estate(connection), revisions.newest_revision(connection)
        epoch = epochs.epoch_of(connection)
    holdings = Holdings(folder, store, written, clock())
    contents = holdings.contents(written)
    naming = Naming(holdings.held.kept.digest, holdings.numbers(written), epoch)
    current = Current(Snapshot(filled(written, contents), revision, versions, contents, naming))
    estate = current.snapshot.estate
    with store.writing() as connection:
        catalogue.fill(connection, clock())
    with store.reading() as connection:
        roster = Roster(connection, estate, clock())
    bundles = Bundles(store)
    guessing, auditor = Guessing(store, clock), Auditor(store, clock)
    publisher, people = Publisher(key), DirectoryKeeper(store, clock)
    foresight = Foresight(store, roster, people, holdings, clock)
    estate_keeper = EstateKeeper(store, current, Planner(publisher, roster), roster, holdings, foresight, live, clock)
    estate_keeper.sign_anew()
    heard = Heard(store)
    fleet = FleetKeeper(store, current, roster, publisher, heard, live, clock)
    checks = Checks(store, current, fleet, roster, people, holdings, bundles, clock)
    lookups = Lookups(store, current, holdings, foresight, clock)
    whys = Whys(store, estate_keeper, fleet, foresight, people, checks, lookups, clock)
    runs_keeper = Runs(store, estate_keeper, whys.known, live, clock)
    standings = Standings(store, fleet, whys, clock)
    verifying = Verifying(runs_keeper, standings)
    observing = Observing(store, runs_keeper, fleet, whys, live, clock)
    return Keepers(
        folder=held,
        now=clock,
        store=store,
        live=live,
        heard=heard,
        register=Register(store, heard),
        administrators=AdministratorsKeeper(store, clock),
        auditor=auditor,
        pseudonyms=Pseudonyms(store),
        guessing=guessing,
        sign_ins=SignIns(store, guessing, auditor, clock),
        last_used=LastUsed(store),
        public_key=public_text_of(key),
        publisher=publisher,
        estate=estate_keeper,
        fleet=fleet,
        people=people,
        bundles=bundles,
        older_forms=OlderForms(bundles, publisher, public_text_of(key)),
        checks=checks,
        foresight=foresight,
        findings=FindingsKeeper(store, current, roster, foresight, live, clock),
        texts=RulesetTexts(),
        holdings=holdings,
        feeds=FeedsKeeper(store, estate_keeper, roster, holdings, live, clock, bounds),
        comparisons=Comparisons(store, current, holdings, foresight, clock),
        lookups=lookups,
        whys=whys,
        standings=standings,
        side_by_side=SideBySide(estate_keeper, fleet, whys, standings),
        drawing_up=DrawingUp(store, current, fleet, roster, foresight, holdings, clock),
        proving=Proving(store, current, standings, whys.known, live, clock),
        runs=runs_keeper,
        verifying=verifying,
        repeating=Repeating(estate_keeper, verifying, observing, clock),
        evidence=EvidenceKeeper(
            evidence_key(folder), public_text_of(key), store, runs_keeper, estate_keeper, fleet, clock
        ),
        observing=observing,
        observations=Observations(store, runs_keeper, fleet),
        indicators=IndicatorsKeeper(store, current, fleet, clock),
        enrolment=EnrolmentKeeper(store, fleet, live, clock),
        pushes=Pushes(store, live, fleet.check_in_seconds, clock),
        errands=Errands(live, clock),
        housekeeper=Housekeeper(store, current, bundles, clock),
    )

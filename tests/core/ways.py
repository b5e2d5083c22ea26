"""The ways in which a block does not hold, each with a small estate in which that is so.

The page “Why does it not hold?” is made of them (`docs/reference/make.py`).
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any, NamedTuple

from portero.core.insight.offline import OfflineEstate
from portero.core.insight.whys import WhyAsked
from portero.core.insight.whys.question import Earlier
from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.browser_policy import BrowserPolicy
from portero.core.nouns.device import Lifecycle
from portero.core.nouns.estate import Estate, FactsDocument
from portero.core.nouns.rollout import RolloutState
from portero.core.nouns.why import CauseCode
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.policy import Policy

NOW = datetime(2026, 12, 2, 10, tzinfo=UTC)
"""A Wednesday."""
GAMES = "http://reel-play.example/"
FLEET = ["whole-fleet"]
INDEX = {"reel-play.example": ("games",), "tune.example": ("music",)}
BROWSERS = [
    {"name": "chromium", "version": "140.0", "managed": True},
    {"name": "firefox", "version": "140.0", "managed": True},
    {"name": "gullwing", "version": "3.0", "managed": False},
]
FACTS = {
    "hostname": "office-desk-01",
    "kind": "desktop",
    "unit": "brackwater/office",
    "os": {"family": "linux", "version": "12.4"},
    "addresses": ["192.0.2.7"],
    "browsers": BROWSERS,
    "layers": {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"},
    "place": "on-site",
    "zone": "Europe/Berlin",
    "last_start": "2026-12-02T06:00:00Z",
}
ROW = {"http": "page", "https": "host", "date": "2026-11-01", "source": "tried"}
VIEWER = {"product": "Deckhand Viewer", "version": "4.2", "vendor": "Deckhand", "sha256": "a" * 64}


class Way(NamedTuple):
    """One way: what is so, what it is recognised as, and the estate, machine and attempt in which it shows."""

    number: int
    title: str
    code: CauseCode
    estate: Mapping[str, Any] = {}
    facts: Mapping[str, Any] = {}
    machine: Mapping[str, Any] = {}
    """What is otherwise about the machine than its newest bundle and its facts say."""
    attempt: Mapping[str, Any] = {}
    asked: Mapping[str, Any] = {}
    """What else the service knows."""
    expected: str = "block"
    mends: bool = True
    """Whether mending this alone would do."""
    is_cause: bool = True

    def question(self) -> WhyAsked:
        """The attempt, and what was expected of it."""
        estate = Estate.model_validate({**base(), **self.estate})
        assert not list(estate.faults())
        facts = FactsDocument.model_validate(
            {"portero_facts": 1, "directory": DIRECTORY, "devices": [{**FACTS, **self.facts}]}
        )
        made = OfflineEstate(estate, facts, MemoryIndex(INDEX), NOW)
        attempt = Attempt.model_validate({"device": "office-desk-01", "url": GAMES, "at": NOW, **self.attempt})
        question = made.question(attempt, Verdict(self.expected))
        machine = {**self.machine}
        if machine.pop("held_before", False):
            older = Estate.model_validate({**base(), "assignments": []})
            machine["applied"] = Policy(compile_bundle(older, question.groups))
        case = question.case._replace(machine=question.case.machine._replace(**machine))
        return replaced(question, case=case, **self.asked)


def replaced(question: WhyAsked, **changed: Any) -> WhyAsked:
    """The question, otherwise."""
    own = {name: getattr(question, name) for name in question.__dataclass_fields__}
    return WhyAsked(**{**own, **changed})


DIRECTORY = {"users": ["clerk-2", "it-desk"], "user_groups": [{"key": "pursers", "users": ["clerk-2"]}]}


def base() -> dict[str, Any]:
    """Games are blocked on the whole fleet."""
    return {
        "precedence": ["pilot", "office", "ships"],
        "groups": [
            {"key": "pilot", "pins": {"in": ["office-desk-01"]}},
            {"key": "office", "members": {"all": [{"field": "unit", "op": "under", "value": "brackwater/office"}]}},
            {"key": "ships", "members": {"all": [{"field": "unit", "op": "under", "value": "brackwater/ships"}]}},
            {"key": "lab", "pins": {"in": ["lab-01"]}},
        ],
        "rulesets": [NO_GAMES],
        "assignments": [assignment()],
    }


NO_GAMES = {"key": "no-games", "kind": "category", "rules": [{"category": "games", "action": "block"}]}


def assignment(ruleset: str = "no-games", to: list[str] = FLEET, **more: Any) -> dict[str, Any]:
    """A ruleset on groups."""
    return {"key": f"{ruleset}--{to[0]}", "ruleset": ruleset, "to": to, **more}


def put(kind: str, *rules: dict[str, Any], **more: Any) -> dict[str, Any]:
    """An estate with these rules on the whole fleet, and nothing else."""
    ruleset = {"key": "stops", "kind": kind, "rules": list(rules)}
    return {"rulesets": [ruleset], "assignments": [assignment("stops")], **more}


def sites(*rules: dict[str, Any]) -> dict[str, Any]:
    """A site list on the whole fleet, on a machine whose filter has no say."""
    return put("site", *rules)


HOST = {"host": "reel-play.example", "action": "block"}
PATH = {"url": "https://reel-play.example/live/", "action": "block"}
PATTERN = {"pattern": "reel-play.example", "action": "block"}
SET = {"key": "viewers", "include": [{"product": "Deckhand Viewer"}]}
STOP_SET = {"application_set": "viewers", "action": "block"}
START = {"url": None, "start": VIEWER}


def policy(**more: Any) -> list[dict[str, Any]]:
    """The browsers, the first with a policy file that stands so."""
    stands = {"file": "/etc/chromium/policies/managed/portero.json", "state": "kept", **more}
    written = BrowserPolicy.model_validate(stands)
    return [{**BROWSERS[0], "policy": written.model_dump(mode="json", exclude_none=True)}, *BROWSERS[1:]]


WAITING = RolloutState(state="waiting", since=datetime(2026, 12, 2, 9, tzinfo=UTC), revision=40, expected_in=600.0)
FAILED = RolloutState(state="failed", since=datetime(2026, 12, 2, 9, tzinfo=UTC), problem="no room on the disk")
BEFORE = (Earlier(41, "ruleset no-games now names music in place of games", Estate.model_validate(base())),)

WAYS = (
    Way(1, "It never joined", CauseCode.NEVER_JOINED, machine={"lifecycle": Lifecycle.INVITED, "applied": None}),
    Way(
        1,
        "Its agent does not run",
        CauseCode.SILENT,
        machine={"lifecycle": Lifecycle.SILENT, "current": False, "held_before": True},
    ),
    Way(
        3,
        "The layer is switched off for the estate",
        CauseCode.LAYER_OFF_ESTATE,
        estate={"settings": {"layers": {"filter": "off"}}},
    ),
    Way(
        4,
        "The layer is switched off, or only records, by a group",
        CauseCode.LAYER_OFF_GROUP,
        estate={"layer_modes": [{"group": "pilot", "filter": "observing"}]},
    ),
    Way(
        5,
        "The layer is off, or only records, at the machine",
        CauseCode.LAYER_OFF_MACHINE,
        facts={"layers": {"filter": "observing", "browser": "enforcing", "startup": "enforcing"}},
    ),
    Way(
        6,
        "The browser's part is off or missing",
        CauseCode.BROWSER_UNMANAGED,
        estate=sites(PATTERN),
        facts={"browsers": [{"name": "chromium", "version": "140.0", "managed": False}]},
        attempt={"browser": "chromium"},
    ),
    Way(
        7,
        "The platform or the agent is too old",
        CauseCode.TOO_OLD,
        facts={"layer_versions": {"filter": "0.1"}},
        estate={"coverage": [{"control": "filter", "browser": "any", "platform": "linux", "layer_from": "1.0", **ROW}]},
    ),
    Way(
        8,
        "The browser is not in the coverage table",
        CauseCode.BROWSER_NOT_COVERED,
        estate={
            "coverage": [{"control": "filter", "browser": "gullwing", "platform": "linux", **ROW, "http": "none"}],
        },
        attempt={"browser": "gullwing"},
    ),
    Way(
        8,
        "The browser is too old",
        CauseCode.BROWSER_TOO_OLD,
        estate={
            "coverage": [
                {"control": "filter", "browser": "chromium", "platform": "linux", "browser_from": "150", **ROW}
            ]
        },
        attempt={"browser": "chromium"},
    ),
    Way(
        9,
        "https hides the path from this browser's filter",
        CauseCode.PATH_HIDDEN,
        estate=put("indicator", PATH),
        attempt={"url": "https://reel-play.example/live/1", "browser": "chromium"},
    ),
    Way(
        10,
        "A rule for content, over https",
        CauseCode.CONTENT_HIDDEN,
        estate=put(
            "category",
            {"search_term": "cheat codes", "action": "block"},
            settings={"search_pages": [{"host": "find.example", "parameter": "q"}]},
        ),
        attempt={"url": "https://find.example/?q=cheat+codes", "browser": "chromium"},
    ),
    Way(
        11,
        "A cut of the web that one browser escapes",
        CauseCode.OTHER_BROWSER,
        estate=sites({"pattern": "*", "action": "block"}),
        attempt={"browser": "gullwing"},
    ),
    Way(
        12,
        "A site list says it, and this browser reads it otherwise",
        CauseCode.PATTERN_CHANGED,
        estate=sites({"pattern": "reel-play.example?live=1", "action": "block"}),
        attempt={"url": "http://reel-play.example/?live=1", "browser": "firefox"},
    ),
    Way(
        13,
        "It has not been delivered yet",
        CauseCode.NOT_DELIVERED,
        machine={"current": False, "held_before": True},
        asked={"rollout": WAITING},
    ),
    Way(
        13,
        "It could not be applied",
        CauseCode.FAILED_TO_APPLY,
        machine={"current": False, "held_before": True},
        asked={"rollout": FAILED},
    ),
    Way(15, "It is still a draft", CauseCode.DRAFT, estate={"assignments": [assignment(state="draft")]}),
    Way(
        16,
        "The machine is in no group that has the rule",
        CauseCode.NOT_IN_GROUP,
        estate={"assignments": [assignment(to=["lab"])]},
    ),
    Way(
        17,
        "The machine is outside the unit",
        CauseCode.OUTSIDE_UNIT,
        estate={"assignments": [assignment(to=["ships"])]},
    ),
    Way(18, "The assignment is paused", CauseCode.PAUSED, estate={"assignments": [assignment(state="paused")]}),
    Way(
        18,
        "The assignment only records",
        CauseCode.OVERRIDDEN_TO_LOG,
        estate={"assignments": [assignment(action="log")]},
    ),
    Way(
        19,
        "The rule only records",
        CauseCode.ONLY_RECORDED,
        estate=put("category", {"category": "games", "action": "log"}),
    ),
    Way(
        20,
        "An allow for the same host is stronger",
        CauseCode.STRONGER_RULE,
        estate={
            "rulesets": [NO_GAMES, {"key": "opens", "kind": "indicator", "rules": [{**HOST, "action": "allow"}]}],
            "assignments": [assignment(), assignment("opens", ["office"])],
        },
    ),
    Way(
        21,
        "An allow pattern in the browser",
        CauseCode.ALLOW_PATTERN,
        estate={
            "rulesets": [
                {"key": "list", "kind": "site", "rules": [PATTERN]},
                {"key": "opens", "kind": "site", "rules": [{"pattern": "reel-play.example", "action": "allow"}]},
            ],
            "assignments": [assignment("list"), assignment("opens", ["office"])],
        },
        attempt={"browser": "chromium"},
    ),
    Way(
        22,
        "It is excluded from the set",
        CauseCode.LEFT_OUT,
        estate=put("startup", STOP_SET, application_sets=[{**SET, "exclude": [{"product": "Deckhand Viewer"}]}]),
        attempt=START,
        mends=False,
    ),
    Way(
        22,
        "It is another version than the set holds",
        CauseCode.LEFT_OUT,
        estate=put(
            "startup",
            STOP_SET,
            application_sets=[{**SET, "include": [{"product": "Deckhand Viewer", "version": {"below": "4.2"}}]}],
        ),
        attempt=START,
        mends=False,
    ),
    Way(
        23,
        "It is for other people",
        CauseCode.OTHER_PEOPLE,
        estate={"assignments": [assignment(people={"user_groups": ["pursers"]})]},
        attempt={"user": "it-desk"},
    ),
    Way(
        24,
        "It is outside its window",
        CauseCode.OUTSIDE_SCHEDULE,
        estate={
            "schedules": [
                {"key": "nights", "zone": "UTC", "windows": [{"days": ["wed"], "from": "20:00", "to": "23:00"}]}
            ],
            "assignments": [assignment(schedule="nights")],
        },
    ),
    Way(
        24,
        "Its clock is wrong: by it the window is over",
        CauseCode.CLOCK_OFF,
        estate={
            "schedules": [
                {"key": "mornings", "zone": "UTC", "windows": [{"days": ["wed"], "from": "08:00", "to": "10:30"}]}
            ],
            "assignments": [assignment(schedule="mornings")],
        },
        facts={"clock_ahead": 3_600},
    ),
    Way(25, "It has ended", CauseCode.ENDED, estate={"assignments": [assignment(ends="2026-12-01T00:00:00Z")]}),
    Way(
        25,
        "Its rule has reached its end",
        CauseCode.ENDED,
        estate=put("category", {"category": "games", "action": "block", "valid_until": "2026-12-01T00:00:00Z"}),
    ),
    Way(
        25,
        "It has not begun",
        CauseCode.NOT_STARTED,
        estate={"assignments": [assignment(starts="2026-12-24T00:00:00Z")]},
    ),
    Way(
        26,
        "The person went on past a warning",
        CauseCode.WENT_ON,
        estate=put("category", {"category": "games", "action": "warn"}),
        asked={"went_on": lambda: "clerk-2 went on on 2026-12-02 09:40 UTC"},
    ),
    Way(
        26,
        "It only warns",
        CauseCode.ONLY_WARNED,
        estate=put("category", {"category": "games", "action": "warn"}),
    ),
    Way(
        27,
        "The gateway filters here",
        CauseCode.GATEWAY,
        estate={"settings": {"gateway_networks": ["192.0.2.0/24"]}},
    ),
    Way(
        28,
        "A device without an agent",
        CauseCode.NO_AGENT,
        facts={"kind": "phone"},
        machine={"lifecycle": Lifecycle.INVITED, "applied": None},
    ),
    Way(
        29,
        "A service was decided, and no rule carries the decision out",
        CauseCode.SERVICE_UNCARRIED,
        estate={
            "services": [{"key": "reel", "name": "Reel", "hosts": ["reel-play.example"], "decision": "declined"}],
            "rulesets": [],
            "assignments": [],
        },
        mends=False,
    ),
    Way(
        30,
        "The host is in another category",
        CauseCode.OTHER_CATEGORY,
        attempt={"url": "http://tune.example/"},
        mends=False,
    ),
    Way(
        30, "The host is in no category", CauseCode.OTHER_CATEGORY, attempt={"url": "http://new.example/"}, mends=False
    ),
    Way(
        30,
        "The index is stale",
        CauseCode.STALE_INDEX,
        attempt={"url": "http://new.example/"},
        machine={"index_current": False},
        mends=False,
        is_cause=False,
    ),
    Way(
        31,
        "It was re-pointed: it stopped this until a revision",
        CauseCode.RE_POINTED,
        estate={"rulesets": [{**NO_GAMES, "rules": [{"search_term": "games", "action": "block"}]}]},
        asked={"earlier": lambda: BEFORE},
        mends=False,
    ),
    Way(
        32,
        "It held until the restart, and the machine restarted",
        CauseCode.RESTARTED,
        estate={"assignments": [assignment(until_restart=True, starts="2026-12-01T00:00:00Z")]},
    ),
    Way(
        33,
        "The program came later, and is held back",
        CauseCode.HELD_BACK,
        estate=put("startup", STOP_SET, application_sets=[SET])
        | {"assignments": [assignment("stops", hold_back="P7D", members=[])]},
        attempt=START,
    ),
    Way(
        34,
        "The startup layer only observes",
        CauseCode.STARTUP_OBSERVES,
        estate=put("startup", STOP_SET, application_sets=[SET], settings={"layers": {"startup": "observing"}}),
        attempt=START,
    ),
    Way(
        35,
        "The list is longer than the browser takes",
        CauseCode.LIST_CUT,
        estate=sites(
            *({"pattern": f"a{number:04}.example", "action": "block"} for number in range(1_500)),
            {"pattern": "zz-reel.example", "action": "block"},
        ),
        attempt={"url": "http://zz-reel.example/", "browser": "chromium"},
    ),
    Way(
        36,
        "Only another host of the same site is stopped",
        CauseCode.ONLY_OTHER_HOSTS,
        estate=put("indicator", {"host": "www.reel-play.example", "action": "block"}),
        mends=False,
    ),
    Way(
        37,
        "It is in force, and looks like a failure",
        CauseCode.LOOKS_LIKE_FAILURE,
        attempt={"url": "https://reel-play.example/", "browser": "chromium"},
        mends=False,
        is_cause=False,
    ),
    Way(
        38,
        "The policy file was edited, or another counts",
        CauseCode.POLICY_OVERRIDDEN,
        estate=sites(PATTERN),
        facts={"browsers": policy(state="foreign")},
        attempt={"browser": "chromium"},
    ),
    Way(
        39,
        "The guard is passed by a known way round",
        CauseCode.PASSED_BY,
        estate=put("startup", STOP_SET, application_sets=[SET]),
        attempt=START,
        mends=False,
        is_cause=False,
    ),
    Way(
        39,
        "The filter does not say that it runs",
        CauseCode.LAYER_NOT_REPORTED,
        facts={"layers": {"browser": "enforcing", "startup": "enforcing"}},
        mends=False,
        is_cause=False,
    ),
    Way(
        40,
        "The browser must be started again",
        CauseCode.RESTART_NEEDED,
        estate=sites(PATTERN),
        facts={"browsers": policy(restart_needed=True)},
        attempt={"browser": "chromium"},
        mends=False,
        is_cause=False,
    ),
)

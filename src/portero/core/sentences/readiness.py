"""What keeps machines from enforcing, and how to mend it."""

from __future__ import annotations

from typing import NamedTuple

from portero.core.nouns.readiness import BlockerCode, LayerCount
from portero.core.wording import LAYER_WORDS, counted


class BlockerWords(NamedTuple):
    """A blocker in words: what it is, how to mend it, and where."""

    detail: str
    remedy: str
    link: str


_BLOCKERS: dict[BlockerCode, tuple[str, str, str]] = {
    BlockerCode.NEVER_JOINED: (
        "It is known and has never joined, so nothing of the estate reaches it.",
        "Invite it, and let somebody follow the join page on the machine.",
        "/fleet/enrolment",
    ),
    BlockerCode.REJOIN_WAITING: (
        "It has the serial number of a machine that joined before.",
        "Confirm that it is the same one, so that it takes up its history, labels and pins; or keep the two apart.",
        "/fleet/enrolment",
    ),
    BlockerCode.DUPLICATE_HOSTNAME: (
        "Another machine has had this hostname before; pins by that name are the other's.",
        "Rename one of them, or retire the one that is gone.",
        "/fleet?blocker=duplicate-hostname",
    ),
    BlockerCode.CREDENTIAL_REVOKED: (
        "Its credential was revoked, so it hears of nothing any more.",
        "Let it join again with a new enrolment code, or retire it.",
        "/fleet/enrolment",
    ),
    BlockerCode.SILENT: (
        "It has missed its check-ins, so nobody knows what it does now.",
        "See that it is switched on and reaches the service; retire it if it is gone.",
        "/roll-out",
    ),
    BlockerCode.LAYER_OFF: (
        "Its {layer} is off, though it is meant to enforce.",
        "Switch the {layer} on at the machine; the estate's word alone does not.",
        "/fleet/layers",
    ),
    BlockerCode.LAYER_OBSERVING: (
        "Its {layer} only records, though it is meant to enforce.",
        "Set the {layer} to enforcing at the machine; something there holds it back.",
        "/fleet/layers",
    ),
    BlockerCode.LAYER_NOT_REPORTED: (
        "It does not report what its {layer} does, though it is meant to enforce.",
        "Install an endpoint that has this layer, or tell the estate that it is off here.",
        "/fleet/layers",
    ),
    BlockerCode.LAYER_TOO_OLD: (
        "Its {layer} is too old to be relied on: version {about}.",
        "Update the endpoint on the machine.",
        "/fleet/coverage",
    ),
    BlockerCode.PLATFORM_TOO_OLD: (
        "Its system is too old for the {layer} to be relied on: {about}.",
        "Update the system of the machine.",
        "/fleet/coverage",
    ),
    BlockerCode.BROWSER_UNMANAGED: (
        "A browser on it takes no managed policy: {about}.",
        "Let the browser take managed policy, remove it, or keep it from starting.",
        "/fleet/coverage",
    ),
    BlockerCode.BROWSER_TOO_OLD: (
        "A browser on it is too old for site lists: {about}.",
        "Update the browser.",
        "/fleet/coverage",
    ),
    BlockerCode.POLICY_UNWRITTEN: (
        "The policy file of a browser on it cannot be written: {about}.",
        "Mend what keeps the endpoint from writing it; it tries again by itself.",
        "/fleet?blocker=policy-unwritten",
    ),
    BlockerCode.POLICY_OVERRIDDEN: (
        "A browser on it goes by somebody else's list of sites: {about}.",
        "Take the lists of sites out of the other file, or let Portero alone set them there.",
        "/fleet?blocker=policy-overridden",
    ),
    BlockerCode.LIST_TRUNCATED: (
        "Its site list is longer than a browser on it takes, and the end is cut off: {about}.",
        "Take out what is needless, name broader patterns, or put hosts on indicators.",
        "/verify/findings",
    ),
    BlockerCode.PATTERN_CHANGED: (
        "A browser on it cannot say patterns of its site list as they are meant: {about}.",
        "See what it is handed instead, and say which reading is meant, or put the hosts on indicators.",
        "/verify/findings",
    ),
    BlockerCode.RESTART_NEEDED: (
        "A browser that runs on it has not read its newest site list: {about}.",
        "Let it be closed and started again.",
        "/fleet?blocker=restart-needed",
    ),
    BlockerCode.TAMPERED: (
        "Somebody was at the policy file of a browser on it within the last day: {about}. It was put right.",
        "Find out who writes there, and take the right to from them.",
        "/fleet?blocker=tampered",
    ),
    BlockerCode.ZONE_MISSING: (
        "It reports no time zone, so schedules that follow the machine run on UTC.",
        "Set the machine's time zone.",
        "/fleet?blocker=zone-missing",
    ),
    BlockerCode.CLOCK_OFF: (
        "Its clock is wrong, {about}: schedules, starts and ends go by it.",
        "Set its clock, and let it follow a time server.",
        "/fleet?blocker=clock-off",
    ),
    BlockerCode.FACTS_STALE: (
        "It has told no facts for more than three days, though it checks in.",
        "Restart the endpoint on the machine.",
        "/fleet?blocker=facts-stale",
    ),
}


def blocker(code: BlockerCode, layer: str | None, about: str | None = None) -> BlockerWords:
    """What stands in the way, in words. Without `about` the sentence speaks of many machines alike."""
    detail, remedy, link = _BLOCKERS[code]
    if about is None:
        detail = detail.replace(": version {about}", "").replace(": {about}", "")
    values = {"layer": LAYER_WORDS[layer] if layer else "machine", "about": about}
    return BlockerWords(detail.format(**values), remedy.format(**values), link)


# of one machine, and of several
_OF_MACHINES: dict[BlockerCode, tuple[str, str]] = {
    BlockerCode.NEVER_JOINED: (
        "is known and has never joined, so nothing of the estate reaches it",
        "are known and have never joined, so nothing of the estate reaches them",
    ),
    BlockerCode.REJOIN_WAITING: (
        "has the serial number of one that joined before",
        "have the serial numbers of some that joined before",
    ),
    BlockerCode.DUPLICATE_HOSTNAME: (
        "has a hostname that another one had before",
        "have hostnames that others had before",
    ),
    BlockerCode.CREDENTIAL_REVOKED: (
        "was shut out, and hears of nothing any more",
        "were shut out, and hear of nothing any more",
    ),
    BlockerCode.SILENT: ("has missed its check-ins", "have missed their check-ins"),
    BlockerCode.LAYER_OFF: (
        "has its {layer} off, though it is meant to enforce",
        "have their {layer} off, though it is meant to enforce",
    ),
    BlockerCode.LAYER_OBSERVING: (
        "has a {layer} that only records, though it is meant to enforce",
        "have a {layer} that only records, though it is meant to enforce",
    ),
    BlockerCode.LAYER_NOT_REPORTED: (
        "does not report what its {layer} does, though it is meant to enforce",
        "do not report what their {layer} does, though it is meant to enforce",
    ),
    BlockerCode.LAYER_TOO_OLD: (
        "has a {layer} that is too old to be relied on",
        "have a {layer} that is too old to be relied on",
    ),
    BlockerCode.PLATFORM_TOO_OLD: (
        "has a system too old for the {layer} to be relied on",
        "have a system too old for the {layer} to be relied on",
    ),
    BlockerCode.BROWSER_UNMANAGED: (
        "has a browser that takes no managed policy",
        "have a browser that takes no managed policy",
    ),
    BlockerCode.BROWSER_TOO_OLD: (
        "has a browser that is too old for site lists",
        "have a browser that is too old for site lists",
    ),
    BlockerCode.POLICY_UNWRITTEN: (
        "has a browser whose policy file cannot be written",
        "have a browser whose policy file cannot be written",
    ),
    BlockerCode.POLICY_OVERRIDDEN: (
        "has a browser that goes by somebody else's list of sites",
        "have a browser that goes by somebody else's list of sites",
    ),
    BlockerCode.LIST_TRUNCATED: (
        "has a site list that is longer than a browser on it takes",
        "have a site list that is longer than a browser on them takes",
    ),
    BlockerCode.PATTERN_CHANGED: (
        "has a browser that cannot say patterns of its site list as they are meant",
        "have a browser that cannot say patterns of their site list as they are meant",
    ),
    BlockerCode.RESTART_NEEDED: (
        "has a running browser that has not read its newest site list",
        "have a running browser that has not read its newest site list",
    ),
    BlockerCode.TAMPERED: (
        "had a policy file that somebody was at, and that was put right",
        "had policy files that somebody was at, and that were put right",
    ),
    BlockerCode.ZONE_MISSING: (
        "reports no time zone, so schedules that follow the machine run on UTC",
        "report no time zone, so schedules that follow the machine run on UTC",
    ),
    BlockerCode.CLOCK_OFF: (
        "has a clock that is wrong: schedules, starts and ends go by it",
        "have a clock that is wrong: schedules, starts and ends go by it",
    ),
    BlockerCode.FACTS_STALE: (
        "has told no facts for more than three days, though it checks in",
        "have told no facts for more than three days, though they check in",
    ),
}


def blocked_machines(code: BlockerCode, layer: str | None, devices: int) -> str:
    """What stands in the way of so many machines: “4 machines have a filter that only records, …”"""
    told = _OF_MACHINES[code][devices != 1].format(layer=LAYER_WORDS[layer] if layer else "layer")
    return f"{counted(devices, 'machine')} {told}."


# of one machine, and of several
_BLOCKER_COUNTS: dict[BlockerCode, tuple[str, str]] = {
    BlockerCode.NEVER_JOINED: ("never joined", "never joined"),
    BlockerCode.REJOIN_WAITING: ("waits to be recognised", "wait to be recognised"),
    BlockerCode.DUPLICATE_HOSTNAME: ("shares a hostname", "share a hostname"),
    BlockerCode.CREDENTIAL_REVOKED: ("was shut out", "were shut out"),
    BlockerCode.SILENT: ("is silent", "are silent"),
    BlockerCode.LAYER_OFF: ("has it off", "have it off"),
    BlockerCode.LAYER_OBSERVING: ("only records", "only record"),
    BlockerCode.LAYER_NOT_REPORTED: ("does not report it", "do not report it"),
    BlockerCode.LAYER_TOO_OLD: ("is too old", "are too old"),
    BlockerCode.PLATFORM_TOO_OLD: ("has a system that is too old", "have a system that is too old"),
    BlockerCode.BROWSER_UNMANAGED: ("has an unmanaged browser", "have an unmanaged browser"),
    BlockerCode.BROWSER_TOO_OLD: ("has a browser that is too old", "have a browser that is too old"),
    BlockerCode.POLICY_UNWRITTEN: (
        "has a policy file that cannot be written",
        "have policy files that cannot be written",
    ),
    BlockerCode.POLICY_OVERRIDDEN: ("goes by somebody else's list", "go by somebody else's list"),
    BlockerCode.LIST_TRUNCATED: ("has a site list too long", "have a site list too long"),
    BlockerCode.PATTERN_CHANGED: ("has a pattern changed", "have patterns changed"),
    BlockerCode.RESTART_NEEDED: ("has a browser to be restarted", "have a browser to be restarted"),
    BlockerCode.TAMPERED: ("was tampered with", "were tampered with"),
    BlockerCode.ZONE_MISSING: ("has no time zone", "have no time zone"),
    BlockerCode.CLOCK_OFF: ("has a wrong clock", "have a wrong clock"),
    BlockerCode.FACTS_STALE: ("told no facts lately", "told no facts lately"),
}


def readiness_sentence(layer: LayerCount) -> str:
    """How one layer stands: “212 of 240 enforce the filter; 9 only record; 4 are silent.”"""
    parts = [f"{layer.enforcing:,} of {layer.meant:,} enforce the {LAYER_WORDS[layer.layer]}"]
    parts += [f"{lost.devices:,} {_BLOCKER_COUNTS[lost.code][lost.devices > 1]}" for lost in layer.lost]
    if layer.not_meant:
        parts.append(f"{layer.not_meant:,} {'is' if layer.not_meant == 1 else 'are'} not meant to")
    return "; ".join(parts) + "."


_STRAGGLING = {
    "failed": "could not apply the newest bundle",
    "waiting": "{have} waited more than an hour for the newest bundle",
    "silent": "{are} silent and {hold} what {they} last had",
}


def straggling(state: str, devices: int) -> str:
    """Machines that have not taken the newest bundle: “6 machines are silent and hold what they last had.”"""
    one = {"have": "has", "are": "is", "hold": "holds", "they": "it"}
    words = {many: single if devices == 1 else many for many, single in one.items()}
    return f"{counted(devices, 'machine')} {_STRAGGLING[state].format(**words)}."


def devices_ahead(devices: int) -> str:
    """Machines hold what this service never had: “3 machines hold something newer than this service has ever had; …”"""
    hold = "holds" if devices == 1 else "hold"
    return (
        f"{counted(devices, 'machine')} {hold} something newer than this service has ever had: its data was copied"
        " back, or another service speaks for it. They refuse what it says until another epoch begins"
        " (portero backup adopt)"
    )

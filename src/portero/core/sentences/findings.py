"""What is the matter, in words, and what would settle it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from portero.core.nouns.action import Action
from portero.core.nouns.verdict import Rung
from portero.core.sentences.policy import moment_words
from portero.core.wording import counted, joined

MOST_NAMED = 4


def named(words: Sequence[str]) -> str:
    """A few things by name, the others counted."""
    if len(words) <= MOST_NAMED:
        return joined(words)
    return joined([*words[: MOST_NAMED - 1], f"{len(words) - MOST_NAMED + 1:,} more"])


def contradiction(winner: str, loser: str, does: str, undone: str, about: Sequence[str], devices: int) -> str:
    """Two overlapping groups that say opposite things of the same."""
    verb = {"allow": "allows", "warn": "warns on", "block": "blocks"}
    machines = counted(devices, "machine")
    return (
        f"On {machines} {loser} {verb[undone]} {named(about)}, and {winner} {verb[does]} it: {winner} wins, as its"
        " group is the stronger."
    )


_LOST_ON = {
    Rung.MANDATORY: "is mandatory",
    Rung.SELECTOR: "names it more narrowly",
    Rung.PEOPLE: "names the people",
    Rung.TARGET: "is on a stronger group",
    Rung.ORIGIN: "is written by hand",
    Rung.ACTION: "is stricter",
    Rung.IDENTITY: "says the same and comes first",
    Rung.BROWSER: "is what browsers weigh higher",
    Rung.STRICTEST: "is stricter",
}


def shadowed(assignment: str, rules: Sequence[str], whole: bool, by: Sequence[tuple[str, Rung]], devices: int) -> str:
    """Rules that can never win, and what always wins over them."""
    what = f"No rule of {assignment}" if whole else f"{assignment}: {named(rules)}"
    winners = joined([f"{words} {_LOST_ON.get(rung, 'wins')}" for words, rung in by])
    verb = "can ever win" if whole else "can never win"
    return f"{what} {verb} on any of its {counted(devices, 'machine')}: {winners}."


def opened(closing: str, opening: str, about: Sequence[str], devices: int) -> str:
    """A group that is opened by a weaker one."""
    return (
        f"{closing} closes everything else, and {opening}, on a weaker group, opens {named(about)} on"
        f" {counted(devices, 'machine')} of it all the same."
    )


def softened(warning: str, blocking: str, about: Sequence[str], devices: int) -> str:
    """A warn that sets a block aside."""
    return (
        f"{warning} only warns on {named(about)}, and so sets aside the block of {blocking} on"
        f" {counted(devices, 'machine')}: there people may go on."
    )


def layers_disagree(listing: str, allowing: str, about: Sequence[str], devices: int) -> str:
    """A site list that blocks what an indicator allows."""
    return (
        f"{allowing} allows {named(about)}, and the browser's own list, by {listing}, blocks it on"
        f" {counted(devices, 'machine')}: a visit must pass both."
    )


def nobody(assignment: str, where: str) -> str:
    """An assignment that reaches no machine."""
    return f"{assignment} reaches no machine: none is in {where} now."


def never_open(assignment: str, why: str) -> str:
    """An assignment that is never in play."""
    return f"{assignment} is never in play: {why}."


def ended(what: str, at: datetime) -> str:
    """Something that is over and still stands there."""
    return f"{what} ended {moment_words(at)}, and still stands there."


def ending(what: str, at: datetime) -> str:
    """Something that ends soon."""
    return f"{what} ends {moment_words(at)}."


def rules_of(ruleset: str, rules: Sequence[str]) -> str:
    """Some rules of a ruleset, by name."""
    return f"{ruleset}: {named(rules)}"


def owner_gone(assignment: str, owner: str) -> str:
    """An exception for which nobody answers."""
    return f"{assignment} is an exception of {owner}, and nobody of that name is known any more."


def broad(assignment: str, rules: Sequence[str], devices: int) -> str:
    """Broad rules that touch everybody."""
    return f"{assignment} touches everybody, {counted(devices, 'machine')}, with {named(rules)}."


_UNENFORCEABLE = {
    "path-hidden": "names a path ({about}), which {machines} cannot see over https: their browsers show the filter the"
    " host alone",
    "content-hidden": "looks at what is searched for or comes back ({about}), which {machines} cannot see over https",
    "browser-unmanaged": "is a site list, and {machines} {have} a browser that takes no managed policy",
    "policy-overridden": "is a site list, and {machines} {have} a browser that goes by somebody else's instead",
    "policy-unwritten": "is a site list, and {machines} {have} a browser whose policy file cannot be written",
    "tampered": "is a site list, and on {machines} somebody was at a browser's policy file within the last day; it was"
    " put right",
    "startup-observing": "is meant to keep programs from starting, and on {machines} the startup layer is not meant to"
    " enforce",
}


def unenforceable(assignment: str, code: str, about: Sequence[str], devices: int) -> str:
    """A rule that part of the machines cannot enforce."""
    have = "has" if devices == 1 else "have"
    told = _UNENFORCEABLE[code].format(about=named(about), machines=counted(devices, "machine"), have=have)
    return f"{assignment} {told}."


def blocks_essential(assignment: str, programs: Sequence[str], devices: int) -> str:
    """A startup rule that would stop a program without which a machine does not run."""
    return (
        f"{assignment} would stop {named(programs)} on {counted(devices, 'machine')}; essential programs always start,"
        " so the rule does not hold there."
    )


def undone_by_layer(layer: str, mode: str, by: str, assignments: Sequence[str], mandatory: bool, devices: int) -> str:
    """A layer that does not enforce where something is meant to be stopped; `by` is a group or the estate."""
    does = "is off" if mode == "off" else "only records"
    where = "for the estate" if by == "estate" else f"on {by}"
    alone = len(assignments) == 1
    what = named(assignments) + (f", which {'is' if alone else 'are'} mandatory," if mandatory else "")
    stops = "stops" if alone else "stop"
    return f"The {layer} {does} {where}, so {what} {stops} nothing on {counted(devices, 'machine')}."


def unknown_people(assignment: str, names: Sequence[str]) -> str:
    """People or user groups of an assignment that are not in the directory."""
    return f"{assignment} is for {named(names)}, and the directory knows nobody of that name: it does nothing there."


def unknown_machines(what: str, names: Sequence[str]) -> str:
    """Machines that are named and not there; `what` names them, as in “group pilot pins”."""
    return f"{what} {named(names)}, and there is no such machine."


def allow_beaten(allowing: str, about: Sequence[str], blocking: str, devices: int) -> str:
    """An allow of hosts which a mandatory rule by category stops for all."""
    return (
        f"{allowing} allows {named(about)}, and never wins on any of its {counted(devices, 'machine')}: by"
        f" {'its category' if len(about) == 1 else 'their categories'} {blocking}, which is mandatory, stops"
        f" {'it' if len(about) == 1 else 'them'} for all."
    )


def never_allowed(words: str, blocking: str, where: str) -> str:
    """An allow, while it is written, which a mandatory rule beats that everybody has."""
    return f"An allow of {words} never wins: {where} stops {blocking} for everybody, and is mandatory."


def list_lacks(ruleset: str, hosts: Sequence[tuple[str, int]], opened: int, devices: int) -> str:
    """Hosts that an allow-only list closes, and that are refused whenever its sites are open."""
    beside = joined(
        [f"{counted(number, 'time')} together with a refused {host}" for host, number in hosts[:MOST_NAMED]]
    )
    return (
        f"In the last 14 days sites that {ruleset} allows were opened {counted(opened, 'time')} on"
        f" {counted(devices, 'machine')}, {beside}, by the hour: they may need what the list closes."
    )


def program_present(assignment: str, programs: Sequence[str], devices: int, people: int) -> str:
    """Machines that have programs which an assignment stops."""
    have = "has" if devices == 1 else "have"
    ran = f", started by {counted(people, 'person', 'people')} in the last 14 days" if people else ""
    return f"{counted(devices, 'machine')} {have} what {assignment} stops: {named(programs)}{ran}."


def came_later(programs: Sequence[str]) -> str:
    """That programs came which sets hold, and are held back."""
    return f"{named(programs)} came, and {'is' if len(programs) == 1 else 'are'} held back"


def put_into_folders(programs: Sequence[str]) -> str:
    """That programs were put into watched folders, and are members now."""
    return f"{named(programs)} {'was' if len(programs) == 1 else 'were'} put into a watched folder"


def not_carried_out(service: str) -> str:
    """A service that was declined, and stays open."""
    return f"{service} is declined, and no rule in force stops it."


_REMEDIES = {
    "remove-assignment": "Remove {assignment}.",
    "pause-assignment": "Pause {assignment}, and look at what misses it.",
    "remove-rules": "Remove these rules from {ruleset}.",
    "replace-weaker": "Let {assignment} stand in place of what weaker groups have of its kind.",
    "raise-group": "Put {group} above {other} in the order of groups.",
    "block-too": "Block it in {ruleset} too.",
    "remove-allow": "Remove the allow from {ruleset}.",
    "as-indicators": "Block and allow the same hosts as indicators on the same groups too: those reach every browser.",
    "as-site-patterns": "Name the same paths in a site list on the same groups too: managed browsers see them.",
    "as-search-patterns": "Name the searches that begin so in a site list on the same groups too: Chromium sees them.",
    "name-hosts": "Name the whole hosts in {ruleset} in place of the paths.",
    "allow-hosts": "Allow these hosts in {ruleset}.",
    "block-browsers": "Keep {browsers} from starting on the same groups: what is not started opens nothing.",
    "extend": "Let {assignment} go on for 30 days more.",
    "extend-rules": "Let these rules of {ruleset} go on for 30 days more.",
    "only-record": "Let {assignment} only record at first.",
    "enforce-filter": "Let the filter enforce on {group}.",
    "enforce-browser": "Let the browser layer enforce on {group}.",
    "enforce-startup": "Let the startup layer enforce on {group}.",
}


def remedy(key: str, **names: str) -> str:
    """What a remedy does, in words."""
    return _REMEDIES[key].format(**names)


# --- while a rule is being written ---


def path_unseen(url: str, devices: int) -> str:
    """A path that part of the machines cannot see over https, and the stronger form."""
    return (
        f"Over https {counted(devices, 'machine')} show the filter the host alone, so {url} holds there over http only;"
        " naming the whole host is stronger."
    )


def content_unseen(words: str, devices: int, patterns: Sequence[str] = ()) -> str:
    """Content that part of the machines cannot see over https, and the site patterns that Chromium sees."""
    more = f" In a site list Chromium sees a search that begins so: {named(patterns)}." if patterns else ""
    return (
        f"Over https {counted(devices, 'machine')} do not show the filter {words}; a host or a category is stronger."
        f"{more}"
    )


def searched_only_on(hosts: Sequence[str]) -> str:
    """Where search terms are seen at all."""
    if not hosts:
        return "Search terms are seen on the search pages of the settings, and there is none: it does nothing."
    return f"Search terms are seen on the search pages of the settings only: {named(hosts)}."


def suffix_unknown(host: str, suffix: str) -> str:
    """A host under a suffix that nobody registers names under."""
    return f"“{host}” ends in “.{suffix}”, under which nobody has names; is it mistyped?"


def host_near(host: str, near: str) -> str:
    """A host that is nearly one that is known."""
    return f"“{host}” is known nowhere, and is nearly {near}; is that one meant?"


def www_only(host: str) -> str:
    """A host with www in front, whose bare form is left open."""
    return f"{host} leaves {host.removeprefix('www.')} itself open; the host without www covers both."


def exact_alone(host: str, others: Sequence[str], devices: int, action: Action) -> str:
    """An exact host, where others of its domain are visited too."""
    left = "does not allow" if action is Action.ALLOW else "leaves open"
    where = f", seen on {counted(devices, 'machine')}" if devices else ""
    return f"“exact” is for {host} alone: it {left} {named(others)}{where}."


def covered(words: str, other: str, where: str) -> str:
    """A rule that an existing one covers."""
    so_of = "" if words == other else f", and so of {words}"
    return f"{where} does the same of {other} already{so_of}."

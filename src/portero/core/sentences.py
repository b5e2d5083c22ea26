"""Every sentence that Portero generates: why a rule lost, what a ruleset or an assignment does, what changed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from portero.core.nouns.action import Action, overridden
from portero.core.nouns.assignment import Assignment, State
from portero.core.nouns.group import Condition, MembershipRule
from portero.core.nouns.revision import Change
from portero.core.nouns.ruleset import CategoryRule, Ruleset
from portero.core.nouns.verdict import Caveat, CaveatCode, Layer, RuleReference, Rung
from portero.core.nouns.web_taxonomy import TAXONOMY

_VERBS = {Action.BLOCK: "blocks", Action.WARN: "warns on", Action.ALLOW: "allows", Action.LOG: "only records"}
_SELECTOR_WORDS = {"category": "the category itself", "family": "its family", "everything": "everything"}


def joined(words: Sequence[str], last: str = "and") -> str:
    """The words as people list them: “a, b and c”."""
    if len(words) <= 1:
        return "".join(words)
    return f"{', '.join(words[:-1])} {last} {words[-1]}"


def counted(number: int, noun: str, plural: str | None = None) -> str:
    """The number with its noun: “1 machine”, “1,240 machines”."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"


# --- what a rule, a ruleset, an assignment, a group does ---


def selector_words(rule: CategoryRule) -> str:
    """What a rule names, in words: a category's name, or a whole family."""
    kind, value = rule.selector
    if kind == "category":
        return TAXONOMY.categories[value].name
    if kind == "family":
        return f"all of {TAXONOMY.by_family[value].name}"
    return "everything else"


def ruleset_sentence(ruleset: Ruleset) -> str:
    """What a ruleset does, the strictest first and the broadest last: “Blocks Gambling; warns on all of Pastime.”"""
    sentence = "; ".join(_does(ruleset.rules)) + "." if ruleset.rules else "does nothing yet: it has no rules."
    return sentence[0].upper() + sentence[1:]


def _does(rules: Sequence[CategoryRule]) -> list[str]:
    breadth = {"category": 0, "family": 1, "everything": 2}
    parts = []
    for action, verb in _VERBS.items():
        own = sorted((rule for rule in rules if rule.action is action), key=lambda rule: breadth[rule.selector.kind])
        if own:
            words = joined([selector_words(rule) for rule in own])
            parts.append((own[-1].selector.kind == "everything", f"{verb} {words}"))
    return [part for _, part in sorted(parts, key=lambda part: part[0])]


def assignment_sentence(assignment: Assignment, ruleset: Ruleset) -> str:
    """What an assignment does: “On whole-fleet, mandatory: blocks Gambling.”"""
    rules = [rule.model_copy(update={"action": overridden(rule.action, assignment.action)}) for rule in ruleset.rules]
    marks = ", mandatory" if assignment.mandatory else ""
    if assignment.state is not State.ACTIVE:
        marks += f", {assignment.state.value} and so not in force"
    return f"On {joined(assignment.to)}{marks}: {'; '.join(_does(rules)) or 'does nothing, as it has no rules'}."


_OP_WORDS = {
    "is": "is",
    "one_of": "is one of",
    "starts_with": "starts with",
    "ends_with": "ends with",
    "contains": "contains",
    "like": "looks like",
    "under": "is under",
    "within": "lie within",
}


def membership_sentence(rule: MembershipRule | None) -> str:
    """A membership rule in words: “unit is under brackwater/ships and kind is desktop”."""
    if rule is None:
        return "holds nobody: it has no membership rule"
    parts = []
    if rule.all:
        parts.append(joined([_branch_words(branch) for branch in rule.all]))
    if rule.any:
        some = joined([_branch_words(branch) for branch in rule.any], "or")
        parts.append(f"({some})" if rule.all and len(rule.any) > 1 else some)
    if rule.none:
        parts.append("not (" + joined([_branch_words(branch) for branch in rule.none], "or") + ")")
    return " and ".join(parts)


def _branch_words(branch: Condition | MembershipRule) -> str:
    if isinstance(branch, MembershipRule):
        return f"({membership_sentence(branch)})"
    value = branch.value if isinstance(branch.value, str) else joined(branch.value, "or")
    return f"{branch.field} {_OP_WORDS[branch.op]} {value}"


# --- why an attempt came out as it did ---


def _named(rule: RuleReference) -> str:
    return f"{rule.ruleset} on {rule.target}"


def lost_because(loser: RuleReference, winner: RuleReference, rung: Rung) -> str:
    """Why the loser lost to the winner, in one sentence."""
    named = _named(winner)
    if rung is Rung.MANDATORY:
        return f"{named} is mandatory, and an ordinary rule cannot undo it"
    if rung is Rung.SELECTOR:
        kinds = [_SELECTOR_WORDS[rule.selector.partition(" ")[0]] for rule in (winner, loser)]
        return f"{named} names {kinds[0]}, which is narrower than {kinds[1]}"
    if rung is Rung.TARGET:
        return f"{winner.target} is stronger than {loser.target}"
    if rung is Rung.ACTION:
        return f"{winner.action} is stricter than {loser.action}, and nothing else tells {named} from it"
    if rung is Rung.STRICTEST:
        return f"another category of the host is settled by {named}, and the strictest counts"
    return f"{named} says the same and stands earlier"


def decided_because(winner: RuleReference | None, categories: Sequence[str], logged: Sequence[RuleReference]) -> str:
    """Why the filter layer says what it says, in one sentence."""
    names = joined([TAXONOMY.categories[key].name for key in categories if key in TAXONOMY.categories])
    recorded = f"; recorded for {joined(sorted({_named(rule) for rule in logged}))}" if logged else ""
    if winner is None:
        return f"No rule decides {names} on this machine, so it is allowed{recorded}."
    strong = ", mandatory" if winner.mandatory else ""
    return f"{_named(winner)} {_VERBS[winner.action]} it{strong}: the host is in {names}{recorded}."


NOTHING_IN_PLAY = "No site list is in play."

_CAVEATS: dict[CaveatCode, tuple[str, str]] = {
    CaveatCode.NOT_ENROLLED: (
        "This machine has never joined, so nothing of the estate reaches it.",
        "Give it an enrolment code and let it join.",
    ),
    CaveatCode.NEVER_APPLIED: (
        "This machine has joined but has not applied any bundle yet.",
        "See that it can reach the service; it applies its bundle at the first check-in.",
    ),
    CaveatCode.STALE_BUNDLE: (
        "This machine does not hold the newest bundle yet.",
        "Wait for its next check-in; the roll-out page says when to expect it.",
    ),
    CaveatCode.SILENT: (
        "This machine has missed its check-ins, so nobody knows what it does now.",
        "See that it is switched on and reaches the service.",
    ),
    CaveatCode.FILTER_OFF: (
        "The filter of this machine is off, so nothing is stopped.",
        "Switch its filter on.",
    ),
    CaveatCode.FILTER_OBSERVING: (
        "The filter of this machine only records, so nothing is stopped.",
        "Set its filter to enforcing.",
    ),
    CaveatCode.NOTICE_HIDDEN: (
        "Over https the filter sees no page to put the notice in: a block shows as a refused connection, and a"
        " warning is recorded while the visit goes on.",
        "Tell people what a refused connection means; where a warning is not enough, block.",
    ),
    CaveatCode.FACT_MISSING: (
        "This machine does not report what its filter does; it is taken as enforcing.",
        "Let it check in with a newer endpoint.",
    ),
}


def caveat(code: CaveatCode, layer: Layer | None = None) -> Caveat:
    """The caveat with its detail and remedy."""
    detail, remedy = _CAVEATS[code]
    return Caveat(code=code, layer=layer, detail=detail, remedy=remedy)


# --- what a revision did ---


def change_sentence(change: Change) -> str:
    """What one change did: “changed ruleset no-gambling”, with the state where an assignment's state moved."""
    if change.noun == "precedence":
        return "changed the order of groups"
    if change.noun == "assignment" and change.verb == "changed" and change.before and change.after:
        before, after = change.before.get("state"), change.after.get("state")
        if before != after:
            verb = {"paused": "paused", "active": "put in force", "draft": "took back to draft"}[str(after)]
            return f"{verb} assignment {change.key}"
    if change.noun == "assignment" and change.verb == "created" and change.after:
        return f"assigned {change.after['ruleset']} to {joined(change.after['to'])}"
    return f"{change.verb} {change.noun} {change.key}"


def summary_of(changes: Iterable[Change]) -> str:
    """What a revision did, in one sentence; many changes are counted by noun."""
    listed = list(changes)
    if len(listed) <= 3:
        sentence = joined([change_sentence(change) for change in listed]) or "changed nothing"
    else:
        counts: dict[tuple[str, str], int] = {}
        for change in listed:
            counts[change.verb, change.noun] = counts.get((change.verb, change.noun), 0) + 1
        sentence = joined([f"{verb} {counted(number, noun)}" for (verb, noun), number in counts.items()])
    return sentence[0].upper() + sentence[1:]


# --- the notice ---


def notice_sentence(verdict: str, categories: Sequence[str], names: Mapping[str, str] | None = None) -> str:
    """Why the person sees a notice, in plain words."""
    known = names or {key: category.name for key, category in TAXONOMY.categories.items()}
    listed = joined([f"“{known.get(key, key)}”" for key in categories])
    if verdict == "warn":
        return f"This site is listed under {listed}. Your organisation asks you to think twice before you go on."
    return f"This site is listed under {listed}, which your organisation does not open on this machine."

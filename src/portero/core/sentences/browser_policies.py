"""What is the matter with the policy files of browsers, in words."""

from __future__ import annotations

from portero.core.nouns.browser_policy import BrowserPolicy, Governor, PolicyFileState, Tampering, TamperingKind
from portero.core.nouns.caveat import Caveat, CaveatCode
from portero.core.nouns.layer import Layer

_TAMPERED = {
    TamperingKind.EDITED: "edited",
    TamperingKind.REMOVED: "removed",
    TamperingKind.CLOSED: "given other permissions",
}


def tampered_how(kind: TamperingKind) -> str:
    """What was done to a policy file: “edited”."""
    return _TAMPERED[kind]


def policy_not_own(state: PolicyFileState, file: str) -> str:
    """What counts in the place of the endpoint's own policy file."""
    if state is PolicyFileState.FOREIGN:
        return f"{file}, which was there before"
    return f"something that keeps writing {file}"


def browser_standing(governor: Governor, by: str | None, newest: bool | None, policy: BrowserPolicy | None) -> str:
    """Who governs a browser: “Portero governs it, with the newest list.” `by` is what counts before Portero's file."""
    if governor is Governor.NOBODY:
        return "Nobody governs it: it takes no managed policy."
    if policy is None:
        return "It takes managed policy; how its policy file stands is not reported."
    if by is not None:
        told = [f"It goes by {by}, and not by its site list."]
    elif policy.state is PolicyFileState.UNWRITTEN:
        told = [f"Its site list could not be written: {policy.problem or policy.file}."]
    elif newest is False:
        told = ["Portero governs it; it has not been given the newest list yet."]
    elif policy.digest is None:
        told = ["Portero governs it; no list of sites is in force."]
    else:
        told = ["Portero governs it" + (", with the newest list." if newest else ".")]
    if policy.restart_needed:
        told.append("One that runs has to be started again before it reads it.")
    if policy.tampering is not None:
        at = policy.tampering.at.strftime("%Y-%m-%d %H:%M UTC")
        told.append(f"Its file was {tampered_how(policy.tampering.what)} at {at}, and put right.")
    return " ".join(told)


def policy_overridden(browser: str, by: str) -> Caveat:
    """The caveat of a browser that reads somebody else's lists before the site list."""
    return Caveat(
        code=CaveatCode.POLICY_OVERRIDDEN,
        layer=Layer.BROWSER,
        detail=f"On this machine {browser} goes by {by}: what its site list says is not what counts there.",
        remedy="Take the lists of sites out of the other file, or let Portero alone set them on this machine.",
    )


def policy_unwritten(browser: str, file: str, problem: str | None) -> Caveat:
    """The caveat of a browser whose policy file cannot be written."""
    why = f": {problem}" if problem else ""
    return Caveat(
        code=CaveatCode.POLICY_UNWRITTEN,
        layer=Layer.BROWSER,
        detail=f"The site list could not be written for {browser} on this machine, to {file}{why}.",
        remedy="Mend what keeps the endpoint from writing the file; it tries again by itself.",
    )


def restart_needed(browser: str) -> Caveat:
    """The caveat of a browser that runs and has not read the newest list."""
    return Caveat(
        code=CaveatCode.RESTART_NEEDED,
        layer=Layer.BROWSER,
        detail=f"A {browser} that runs on this machine started before its site list was written, and goes by what it"
        " read then.",
        remedy="Let it be closed and started again; what it starts with is the newest list.",
    )


def tampered(browser: str, file: str, tampering: Tampering) -> Caveat:
    """The caveat of a policy file that somebody was at, not long ago."""
    at = tampering.at.strftime("%Y-%m-%d %H:%M UTC")
    return Caveat(
        code=CaveatCode.TAMPERED,
        layer=Layer.BROWSER,
        detail=f"The policy file of {browser} on this machine ({file}) was {tampered_how(tampering.what)}, as noticed"
        f" at {at}, and put right; for some seconds the list may not have held.",
        remedy="Find out who writes there, and take the right to from them.",
    )

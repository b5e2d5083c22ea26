"""What is the matter with the policy files of browsers, in words."""

from __future__ import annotations

from portero.core.nouns.browser_policy import PolicyFileState, Tampering, TamperingKind
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

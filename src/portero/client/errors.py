"""One exception class for each problem type of the service (RFC 9457)."""

from __future__ import annotations

from typing import Any, ClassVar


class PorteroError(Exception):
    """Anything that the client raises."""


class Unreachable(PorteroError):
    """The service cannot be reached."""


class Problem(PorteroError):
    """The service's answer says that something is wrong: `detail` says what to do, `errors` where.

    `extra` holds what the answer carries beside the standard members.
    """

    kind: ClassVar[str] = ""

    def __init__(self, body: dict[str, Any]) -> None:
        self.status: int = body.get("status", 0)
        self.title: str = body.get("title", "")
        self.detail: str = body.get("detail", "")
        self.errors: list[dict[str, str]] = body.get("errors", [])
        standard = {"type", "title", "status", "detail", "errors"}
        self.extra = {name: value for name, value in body.items() if name not in standard}
        super().__init__(self.detail or self.title)


class BadRequest(Problem):
    """The request cannot be read."""

    kind = "bad-request"


class NotSignedIn(Problem):
    """No token, or one that is not good."""

    kind = "not-signed-in"


class NotAllowed(Problem):
    """The role does not reach that far."""

    kind = "not-allowed"


class PasswordChangeNeeded(Problem):
    """Signed in with a first password, which has to be changed before anything else."""

    kind = "password-change-needed"


class NotFound(Problem):
    """There is no such thing."""

    kind = "not-found"


class AlreadyExists(Problem):
    """The key is taken."""

    kind = "already-exists"


class AmbiguousDevice(Problem):
    """More than one device has that hostname."""

    kind = "ambiguous-device"


class StillInUse(Problem):
    """Something else still names it."""

    kind = "in-use"


class ChangedMeanwhile(Problem):
    """Somebody else changed it after it was read; `extra["current"]` is its newest state."""

    kind = "changed-meanwhile"


class GateFailed(Problem):
    """The change fails probes of the gate; `extra["gate"]` says which."""

    kind = "gate"


class Unproved(Problem):
    """The change does not lead to what the probes that it carries expect; `extra["proof"]` says which."""

    kind = "unproved"


class Invalid(Problem):
    """Something in the request is not valid; `errors` says where."""

    kind = "invalid"


_CLASSES = {cls.kind: cls for cls in Problem.__subclasses__()}


def problem_of(body: dict[str, Any]) -> Problem:
    """The exception for a problem answer."""
    kind = str(body.get("type", "")).rpartition(":")[2]
    return _CLASSES.get(kind, Problem)(body)

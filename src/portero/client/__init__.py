"""The client library: typed, synchronous, the only thing the command line talks through.

>>> from portero.client import Portero
>>> with Portero("http://127.0.0.1:8642", token="pt_…") as portero:   # doctest: +SKIP
...     for device in portero.devices.list(unit="brackwater/ships"):
...         print(device.hostname, device.rollout.state)
"""

from portero.client.connection import Previewed
from portero.client.errors import (
    AlreadyExists,
    AmbiguousDevice,
    BadRequest,
    ChangedMeanwhile,
    GateFailed,
    Invalid,
    NotAllowed,
    NotFound,
    NotSignedIn,
    PorteroError,
    Problem,
    StillInUse,
    Unproved,
    Unreachable,
)
from portero.client.portero import Portero

__all__ = [
    "AlreadyExists",
    "AmbiguousDevice",
    "BadRequest",
    "ChangedMeanwhile",
    "GateFailed",
    "Invalid",
    "NotAllowed",
    "NotFound",
    "NotSignedIn",
    "Portero",
    "PorteroError",
    "Previewed",
    "Problem",
    "StillInUse",
    "Unproved",
    "Unreachable",
]

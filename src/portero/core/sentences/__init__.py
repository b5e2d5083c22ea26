"""Every sentence that Portero generates comes from here, and says the same on every surface."""

from portero.core.sentences.policy import (
    assignment_sentence,
    change_sentence,
    condition_sentence,
    group_sentence,
    membership_sentence,
    ruleset_sentence,
    summary_of,
)
from portero.core.sentences.readiness import blocker, readiness_sentence
from portero.core.sentences.verdicts import (
    NOTHING_IN_PLAY,
    caveat,
    decided_because,
    does,
    left_to_gateway,
    lost_because,
    meant_to,
    not_reached,
    notice_sentence,
)
from portero.core.sentences.words import as_sentence, counted, joined

__all__ = [
    "NOTHING_IN_PLAY",
    "as_sentence",
    "assignment_sentence",
    "blocker",
    "caveat",
    "change_sentence",
    "condition_sentence",
    "counted",
    "decided_because",
    "does",
    "group_sentence",
    "joined",
    "left_to_gateway",
    "lost_because",
    "meant_to",
    "membership_sentence",
    "not_reached",
    "notice_sentence",
    "readiness_sentence",
    "ruleset_sentence",
    "summary_of",
]

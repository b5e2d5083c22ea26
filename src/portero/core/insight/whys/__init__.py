"""Why an attempt is, or is not, stopped: every cause that can be, in order, and which of them it is."""

from portero.core.insight.whys.answering import mended_by, why
from portero.core.insight.whys.question import Question

__all__ = ["Question", "mended_by", "why"]

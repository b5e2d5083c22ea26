"""Why an attempt is, or is not, stopped: every cause that can be, in order, and which of them it is."""

from portero.core.insight.whys.answering import cause_of, mended_by, why
from portero.core.insight.whys.question import WhyAsked

__all__ = ["WhyAsked", "cause_of", "mended_by", "why"]

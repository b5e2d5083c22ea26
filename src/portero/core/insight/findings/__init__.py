"""What an administrator should settle: contests between rules, and what stands by itself."""

from portero.core.insight.findings.finding import find_all
from portero.core.insight.findings.remedies import apply_remedy

__all__ = ["apply_remedy", "find_all"]

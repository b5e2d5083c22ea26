"""What programs are for, put right."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.core.nouns.application_correction import ApplicationCorrection, ApplicationCorrectionSummary


class ApplicationCorrections(
    Collection[ApplicationCorrection, ApplicationCorrectionSummary, ApplicationCorrectionSummary]
):
    """Corrections of what programs are for, by product."""

    model: ClassVar = ApplicationCorrection

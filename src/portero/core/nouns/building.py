"""When models are made ready to check and to write."""

from __future__ import annotations

deferred = False
"""Whether a model is made ready when it is first used, rather than as it is imported.

Set before models are imported, by what uses few of them and ends soon. A service has them ready before several threads
use them.
"""

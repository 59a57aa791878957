"""How many random examples a test takes: a part of them on every change, all of them where
``OAKTAG_TESTS`` is ``long``."""

from __future__ import annotations

import os
from math import ceil

PART = 1.0 if os.environ.get("OAKTAG_TESTS") == "long" else 0.2


def scaled(count: int, least: int = 1) -> int:
    """So many of a number of examples, and no fewer than ``least``."""
    return max(ceil(count * PART), least)

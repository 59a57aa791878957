"""How many random examples a test takes: a part of them on every change, all of them where
``OAKTAG_TESTS`` is ``long``, and few where it is ``quick``."""

from __future__ import annotations

import os
from math import ceil

PART = {"quick": 0.2, "long": 1.0}.get(os.environ.get("OAKTAG_TESTS", ""), 0.25)


def scaled(count: int, least: int = 1) -> int:
    """So many of a number of examples, and no fewer than ``least``."""
    return max(ceil(count * PART), least)

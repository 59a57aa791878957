"""Findings: what, where, and what to do."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, findings


def show(page: Page, d: Row, *, every: bool = False) -> None:
    """The first of each code, or all."""
    findings(page, d["findings"], len(d["accepted"]), every=every)

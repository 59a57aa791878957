"""Findings as the workspace weighs them: severities set there, and what it has accepted."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import ClassVar

from oaktag.findings import SEVERITIES, Finding
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Checked(Result):
    """Findings of ``check`` or ``review``: those that count, and those that are accepted."""

    command: str
    findings: list[Row]
    accepted: list[Row]
    shown_by: ClassVar[str] = "findings"
    table: ClassVar[str] = "findings"


def weighed(model: Model, findings: Iterable[Finding]) -> list[Finding]:
    """The findings with the severities of this workspace, without those that are off."""
    chosen = model.files.config.severities
    result: list[Finding] = []
    for found in findings:
        word = chosen.get(found.code, found.severity)
        severity = next((s for s in SEVERITIES if s == word), None)
        if severity is not None:
            result.append(replace(found, severity=severity))
    return sorted(result, key=lambda f: (f.location, f.code, f.message))


def borne(model: Model, command: str, findings: Iterable[Finding]) -> Checked:
    """The document of a command: what is found, and what is found and accepted for now."""
    told = weighed(model, findings)
    accepted = [any(a.bears(f, model.today) for a in model.files.config.accepted) for f in told]
    return Checked(
        command,
        findings=[f.as_json() for f, a in zip(told, accepted, strict=True) if not a],
        accepted=[f.as_json() for f, a in zip(told, accepted, strict=True) if a],
    )

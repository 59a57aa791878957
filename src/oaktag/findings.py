"""Findings: what a check found, where, and what to do; and the list of stable codes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from oaktag.located import Location

Severity = Literal["error", "warning", "note"]
SEVERITIES: tuple[Severity, ...] = ("error", "warning", "note")


@dataclass(frozen=True, slots=True)
class Code:
    """A kind of finding: its stable code, its usual severity, and what it means."""

    code: str
    severity: Severity
    title: str


#: Every code that a command can print; a code once given keeps its meaning.
CODES: dict[str, Code] = {
    c.code: c
    for c in (
        Code("OT100", "error", "the files contradict each other"),
        Code("OT201", "warning", "a group without members"),
        Code("OT202", "warning", "a group with members and no binding"),
        Code("OT203", "warning", "an endpoint that no pin and no rule assigned"),
        Code("OT204", "warning", "a segment that holds nobody we know"),
        Code("OT205", "warning", "a rule that matches nothing"),
        Code("OT206", "warning", "a rule whose every match an earlier rule takes"),
        Code("OT207", "warning", "two endpoints with one address"),
        Code("OT208", "warning", "one endpoint with two kinds"),
        Code("OT209", "warning", "an attribute in a rule that no source gives"),
        Code("OT210", "warning", "an address on no segment"),
        Code("OT211", "warning", "bindings of one prefix and source with different tags"),
        Code("OT212", "warning", "a rule that would give a group which does not exist"),
        Code("OT213", "warning", "a group without a number in the files"),
        Code("OT214", "warning", "a session of an endpoint that no source has"),
        Code("OT215", "warning", "a pin that has expired"),
        Code("OT216", "note", "a pin that ends soon"),
        Code("OT217", "warning", "a group that was split off for somebody, and is over"),
        Code("OT218", "warning", "an address that no host has"),
        Code("OT501", "error", "an address of another domain that is not its own"),
        Code("OT502", "warning", "a group of another domain that has no tag here"),
        Code("OT503", "warning", "a group of another domain that nobody shares"),
        Code("OT504", "warning", "a document of another domain that is refused"),
        Code("OT505", "warning", "another domain that does not answer"),
        Code("OT401", "warning", "a node that marks and knows no binding"),
        Code("OT402", "warning", "a feed that passes a wide binding and keeps back a narrower one"),
        Code("OT403", "warning", "a point that no path crosses"),
        Code("OT404", "warning", "a point that sees two tags, in the frame and in its bindings"),
        Code("OT405", "warning", "a way back that avoids the stateful point of the way out"),
        Code("OT406", "warning", "a stateful point that drops answers, having missed the way out"),
        Code("OT407", "warning", "a stateless point whose list lacks the cell of answers"),
        Code(
            "OT409", "warning", "a feed that is down, or whose sender has nothing that it may pass"
        ),
        Code("OT411", "warning", "a point that knows no binding"),
        Code("OT412", "warning", "a node that marks and does not know hosts of its own segments"),
        Code("OT413", "warning", "members whose sessions nobody learns"),
        Code("OT414", "warning", "a point that judges nothing of what is there"),
        Code("OT415", "warning", "a point with own: true at a node without an address"),
        Code("OT410", "warning", "a wide binding over a segment without a default tag"),
        Code("OT301", "warning", "a line that no packet reaches"),
        Code("OT302", "warning", "an entry of a line that no packet reaches"),
        Code("OT303", "warning", "two lines of one layer, equally specific, that contradict"),
        Code("OT304", "warning", "a line that changes no decision"),
        Code("OT305", "warning", "a line whose source and destination are likely swapped"),
        Code("OT306", "warning", "ICMP that path MTU discovery needs is denied"),
        Code("OT307", "note", "a group, set, service or permission that nobody uses"),
        Code("OT308", "note", "named services that overlap"),
        Code("OT309", "warning", "a line that has expired"),
        Code("OT310", "note", "a line that expires soon"),
        Code("OT311", "warning", "isolation inside a group that no point on the path judges"),
    )
}


@dataclass(frozen=True, slots=True)
class Finding:
    """One result of a check.

    ``example`` is a packet or another small fact that shows it, in the JSON form.
    """

    code: str
    severity: Severity
    location: Location
    message: str
    hint: str
    example: dict[str, Any] | None = None

    def as_json(self) -> dict[str, Any]:
        """The finding as ``interface.md`` names its fields."""
        return {
            "code": self.code,
            "severity": self.severity,
            "file": self.location.file,
            "line": self.location.line,
            "column": self.location.column,
            "message": self.message,
            "hint": self.hint,
            "example": self.example,
        }


def finding(
    code: str, location: Location, message: str, hint: str, example: dict[str, Any] | None = None
) -> Finding:
    """A finding with the usual severity of its code."""
    return Finding(code, CODES[code].severity, location, message, hint, example)

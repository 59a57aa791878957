"""Text as it is shown: nothing that a name or a note holds acts on a terminal."""

from __future__ import annotations

from oaktag.letters import ACTING


def shown(text: str) -> str:
    """The text with such characters written as escapes."""
    return ACTING.sub(lambda found: _escape(ord(found[0])), text)


def shown_json(text: str) -> str:
    """The same of JSON, where escapes have one form (RFC 8259, section 7)."""
    return ACTING.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def _escape(number: int) -> str:
    return f"\\x{number:02x}" if number < 256 else f"\\u{number:04x}"

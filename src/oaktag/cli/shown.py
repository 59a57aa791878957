"""Text as it is shown: nothing that a name or a note holds acts on a terminal."""

from __future__ import annotations

import re

#: Controls but tab and line feed (a carriage return before one belongs to a line's end), what turns
#: the direction of text, line ends of other kinds, marks of byte order, halves of characters.
ACTING = re.compile(
    "\r(?!\n)|[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069"
    "\ufeff\ud800-\udfff]"
)


def shown(text: str) -> str:
    """The text with such characters written as escapes."""
    return ACTING.sub(lambda found: _escape(ord(found[0])), text)


def shown_json(text: str) -> str:
    """The same of JSON, where escapes have one form (RFC 8259, section 7)."""
    return ACTING.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def _escape(number: int) -> str:
    return f"\\x{number:02x}" if number < 256 else f"\\u{number:04x}"

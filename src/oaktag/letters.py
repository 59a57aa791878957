"""Characters that are not what they look like, and how they are shown: nothing that a name or a
note holds acts on a terminal or hides in a file."""

from __future__ import annotations

import re

#: Controls but tab and line feed (a carriage return before one belongs to a line's end), what turns
#: the direction of text, line ends of other kinds, marks of byte order, halves of characters.
ACTING = re.compile(
    "\r(?!\n)|[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069"
    "\ufeff\ud800-\udfff]"
)
#: What some programs take for the end of a line and others do not, beside a lone carriage return.
ENDS = "\x0b\x0c\x1c\x1d\x1e\x85\u2028\u2029"
ENDING = re.compile(f"\r(?!\n)|[{ENDS}]")
#: The same in a name, where a tab and a line feed have no business either.
ACTING_IN_NAMES = re.compile(f"[\t\n\r]|{ACTING.pattern}")


def line_end(text: str) -> re.Match[str] | None:
    """The first character of a text that ends lines for some programs only."""
    lone = "\r" in text and text.count("\r") != text.count("\r\n")
    # Looking for each alone is twenty times quicker than for all at once.
    return ENDING.search(text) if lone or any(end in text for end in ENDS) else None


def named(letter: str) -> str:
    """A character by its number, as in ``U+202E``."""
    return f"U+{ord(letter):04X}"


def shown(text: str) -> str:
    """The text with such characters written as escapes."""
    return ACTING.sub(lambda found: _escape(ord(found[0])), text)


def shown_json(text: str) -> str:
    """The same of JSON, where escapes have one form (RFC 8259, section 7)."""
    return ACTING.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def _escape(number: int) -> str:
    return f"\\x{number:02x}" if number < 256 else f"\\u{number:04x}"

"""Characters that are not what they look like, and how they are shown: nothing that a name or a
note holds acts on a terminal or hides in a file."""

from __future__ import annotations

import re

#: Controls but tab and line feed (a carriage return before one belongs to a line's end), what turns
#: the direction of text, line ends of other kinds, marks of byte order, halves of characters, and
#: what no XML may hold.
ACTING = re.compile(
    "\r(?!\n)|[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069"
    "\ufeff\ufffe\uffff\ud800-\udfff]"
)
#: What some programs take for the end of a line and others do not, beside a lone carriage return.
ENDS = "\x0b\x0c\x1c\x1d\x1e\x85\u2028\u2029"
ENDING = re.compile(f"\r(?!\n)|[{ENDS}]")
#: The same in a name, where a tab and a line feed have no business either.
ACTING_IN_NAMES = re.compile(f"[\t\n\r]|{ACTING.pattern}")


#: The beginnings of lines that are orders: two pairs of colons, so that no IPv6 address is one, or
#: a bracket behind number signs.
ORDER = re.compile(r"^(?:[+\-]?\s*)(?=::[^\n]*::|##\w*\[)", re.MULTILINE)
#: What Markdown leaves as it is, wherever it stands in a line.
PLAIN_WORDS = re.compile(r"(?:(?:[^\W_]|\()(?:[^\W_]|[ .,:;()/–→—-])*)?|—")
#: The longest message, in characters.
LONGEST = 400


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


def tame(text: str) -> str:
    """Text for people, of whose lines none is an order to the program that keeps a CI run's log:
    one that begins as such does so behind a backslash."""
    if "::" not in text and "##" not in text:
        return text
    return ORDER.sub(lambda found: f"{found[0]}\\", text)


def markdown(text: str) -> str:
    """Text in Markdown that means just itself: what is more than plain words stands as code, which
    no table, picture, link or mention comes out of."""
    if PLAIN_WORDS.fullmatch(text):
        return text
    fence = "`" * (max((len(run) for run in re.findall("`+", text)), default=0) + 1)
    inner = shown(text).replace("\n", " ").replace("|", "\\|")
    return f"{fence} {inner} {fence}" if "`" in inner else f"{fence}{inner}{fence}"


def clipped(text: str) -> str:
    """A text that is no longer than a person reads; what is long in it is some file's value."""
    return text if len(text) <= LONGEST else f"{text[: LONGEST - 80]} … {text[-70:]}"


def _escape(number: int) -> str:
    return f"\\x{number:02x}" if number < 256 else f"\\u{number:04x}"

"""What office programs make of CSV: other separators, days and numbers in the forms of a country.

Kept here: what has one meaning only is understood; what could be one thing or another is refused
with its place, and never guessed.
"""

from __future__ import annotations

import re
from datetime import date, datetime

from oaktag.workspace.times import SECOND, parse_day, parse_instant

SEPARATORS = ",;\t"
_DOTS = re.compile(r"(\d{1,2})\.(\d{1,2})\.(\d{4})")
_SLASHES = re.compile(r"(\d{1,2})/(\d{1,2})/(\d{4})")
_CLOCK = re.compile(r"(.+?) (\d{1,2}):(\d{2})(?::(\d{2}))?")
#: A number that was shortened, so that its last digits are lost.
_SHORTENED = re.compile(r"[+-]?\d[.,]\d+E[+-]\d+")


def separator_of(text: str) -> str:
    """What parts the cells of a CSV file, by its header: what stands there most, else a comma."""
    first = text.split("\n", 1)[0]
    return max(SEPARATORS, key=lambda c: (first.count(c), c == ","))


def read_day(text: str) -> tuple[int | None, str]:
    """A day as a proleptic ordinal; or None, and why: it is none, or may be either of two."""
    day = parse_day(text)
    if day is not None:
        return day, ""
    if match := _DOTS.fullmatch(text):
        number, month, year = map(int, match.groups())
    elif match := _SLASHES.fullmatch(text):
        one, two, year = map(int, match.groups())
        if one <= 12 and two <= 12 and one != two:
            return None, f"{text!r} may be {year}-{one:02}-{two:02} or {year}-{two:02}-{one:02}"
        number, month = (one, two) if one > 12 else (two, one)
    else:
        return None, f"{text!r} is no day"
    try:
        return date(year, month, number).toordinal(), ""
    except ValueError:
        return None, f"{text!r} is no day"


def read_instant(text: str) -> tuple[int | None, str]:
    """A day or time in microseconds of the Unix epoch, UTC; or None, and why."""
    moment = parse_instant(text)
    if moment is not None:
        return moment, ""
    clock = _CLOCK.fullmatch(text)
    day, why = read_day(clock[1] if clock else text)
    if day is None:
        return None, why.replace("is no day", "is no time")
    midnight = parse_instant(date.fromordinal(day).isoformat())
    hour, minute, second = (int(clock[n] or 0) for n in (2, 3, 4)) if clock else (0, 0, 0)
    try:
        datetime(2000, 1, 1, hour, minute, second)
    except ValueError:
        return None, f"{text!r} is no time"
    assert midnight is not None
    return midnight + ((hour * 60 + minute) * 60 + second) * SECOND, ""


def shortened(text: str) -> bool:
    """Whether an office program made a number of a cell and left digits out, as in 1.23E+11."""
    return _SHORTENED.fullmatch(text) is not None

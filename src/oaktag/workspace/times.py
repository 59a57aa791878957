"""Days and times as RFC 3339 writes them (section 5.6), whole: fractions, any zone, lower-case
letters, leap seconds. Without a zone a time is UTC, and a day is its first moment.
"""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, timedelta

#: Of the Unix epoch, in microseconds: what all times are counted in.
SECOND = 1_000_000
_DAY = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")
_INSTANT = re.compile(
    r"([0-9]{4}-[0-9]{2}-[0-9]{2})"
    r"(?:[Tt ]([0-9]{2}):([0-9]{2})(?::([0-9]{2})(?:\.([0-9]{1,30}))?)?"
    r"(?:[Zz]|([+-])([0-9]{2}):([0-9]{2}))?)?"
)
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_FIRST = date(1970, 1, 1).toordinal()


def parse_day(text: str) -> int | None:
    """A day YYYY-MM-DD (full-date) as a proleptic ordinal."""
    if not _DAY.fullmatch(text):
        return None
    try:
        return date.fromisoformat(text).toordinal()
    except ValueError:
        return None


def parse_instant(text: str) -> int | None:
    """A day or time in microseconds of the Unix epoch; less than that is cut off.

    A leap second is the last moment of the second before it: it must end a day of UTC.
    """
    found = _INSTANT.fullmatch(text)
    day = parse_day(found[1]) if found else None
    if found is None or day is None:
        return None
    hour, minute, second = (int(found[n] or 0) for n in (2, 3, 4))
    ahead, zone_hour, zone_minute = found[6], int(found[7] or 0), int(found[8] or 0)
    if hour > 23 or minute > 59 or second > 60 or zone_hour > 23 or zone_minute > 59:
        return None
    minutes = (day - _FIRST) * 1440 + hour * 60 + minute
    minutes += (zone_hour * 60 + zone_minute) * (1 if ahead == "-" else -1)
    if second == 60:
        return minutes * 60 * SECOND + 60 * SECOND - 1 if minutes % 1440 == 1439 else None
    return (minutes * 60 + second) * SECOND + int((found[5] or "0")[:6].ljust(6, "0"))


def instant_text(moment: int) -> str:
    """A time as RFC 3339 writes it, in UTC; beyond the years 1 to 9999 the nearest of them."""
    try:
        return (_EPOCH + timedelta(microseconds=moment)).isoformat()
    except OverflowError:
        last = datetime.max if moment > 0 else datetime.min
        return last.replace(microsecond=0, tzinfo=UTC).isoformat()

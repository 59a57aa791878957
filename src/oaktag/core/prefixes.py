"""Many prefixes as columns: read from text in bulk, compared and ordered without an object each."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from oaktag.core.addresses import WIDTH, Keys, Prefix, joined, keys, parse_prefix
from oaktag.core.arrays import Flags, Ints, NDArray, Words, np
from oaktag.core.columns import Columns

_LOW = (1 << 64) - 1
_CHUNK = 1 << 18
#: No dotted address is longer than 15 letters: what fills all 16 is none.
_LETTERS = 16


class Prefixes(Columns[Prefix]):
    """Prefixes, each of either family.

    Attributes:
        family: uint8 [n], 4 or 6.
        high, low: uint64 [n], the halves of the first address; an IPv4 address is all in ``low``.
        length: uint8 [n], in bits.
    """

    def __init__(
        self, family: NDArray[np.uint8], high: Words, low: Words, length: NDArray[np.uint8]
    ) -> None:
        self.family, self.high, self.low, self.length = family, high, low, length

    @classmethod
    def of(cls, prefixes: Iterable[Prefix]) -> Prefixes:
        """The columns of some prefixes."""
        if isinstance(prefixes, Prefixes):
            return prefixes
        every = list(prefixes)
        return cls(
            np.array([p.family for p in every], dtype=np.uint8),
            np.array([p.start >> 64 for p in every], dtype=np.uint64),
            np.array([p.start & _LOW for p in every], dtype=np.uint64),
            np.array([p.length for p in every], dtype=np.uint8),
        )

    @classmethod
    def join(cls, parts: Sequence[Prefixes]) -> Prefixes:
        """All of several, one after the other."""
        if not parts:
            return cls.of(())
        return cls(
            np.concatenate([p.family for p in parts]), np.concatenate([p.high for p in parts]),
            np.concatenate([p.low for p in parts]), np.concatenate([p.length for p in parts]),
        )  # fmt: skip

    def __len__(self) -> int:
        return len(self.family)

    def one(self, at: int) -> Prefix:
        """One of them, made."""
        start = int(self.high[at]) << 64 | int(self.low[at])
        return Prefix(int(self.family[at]), start, int(self.length[at]))

    def take(self, rows: Ints | Flags) -> Prefixes:
        """Those of some rows."""
        return Prefixes(self.family[rows], self.high[rows], self.low[rows], self.length[rows])

    @property
    def wide(self) -> Flags:
        """Which hold more than one address."""
        wide: Flags = self.length < np.where(self.family == 4, WIDTH[4], WIDTH[6])
        return wide

    def starts(self, family: int) -> Keys:
        """The first addresses as keys; all prefixes must be of that family."""
        return self.low if family == 4 else joined(self.high, self.low)

    def ends(self, family: int) -> Keys:
        """The last addresses as keys; all prefixes must be of that family."""
        length = self.length.astype(np.int64)
        if family == 4:
            last: Words = self.low | _ones(WIDTH[4] - length)
            return last
        free = WIDTH[6] - length
        high, low = np.maximum(free - 64, 0), np.minimum(free, 64)
        return joined(self.high | _ones(high), self.low | _ones(low))

    def holding(self, family: int, address: int) -> Ints:
        """The rows whose prefix holds an address."""
        rows = np.flatnonzero(self.family == family)
        here, key = self.take(rows), keys(family, [address])
        held: Ints = rows[(here.starts(family) <= key) & (key <= here.ends(family))]
        return held

    def inside(self, prefix: Prefix) -> Ints:
        """The rows that equal a prefix or lie inside it."""
        rows = np.flatnonzero((self.family == prefix.family) & (self.length >= prefix.length))
        start = self.take(rows).starts(prefix.family)
        low, high = keys(prefix.family, [prefix.start, prefix.end])
        held: Ints = rows[(low <= start) & (start <= high)]
        return held

    def order(self, *weaker: Ints) -> Ints:
        """The rows in the order of their prefixes (family, first address, length), and among equal
        prefixes by the weaker columns, the first of them first."""
        columns = [c for c in (self.family, self.high, self.low, self.length) if _differ(c)]
        if len(columns) + len(weaker) == 0:
            return np.arange(len(self))
        return np.lexsort([*reversed(weaker), *reversed(columns)])

    def fresh(self, order: Ints) -> Flags:
        """Of sorted rows, which begin a prefix that the row before has not."""
        first = np.ones(len(order), dtype=np.bool_)
        ordered = self.take(order)
        first[1:] = False
        for column in (ordered.family, ordered.high, ordered.low, ordered.length):
            first[1:] |= column[1:] != column[:-1]
        return first


def _differ(column: NDArray[np.generic]) -> bool:
    return len(column) > 0 and bool((column != column[0]).any())


def _ones(bits: Ints) -> Words:
    """Numbers whose so many lowest bits are set, 0 to 64 of them."""
    some = np.uint64(1) << np.minimum(bits, 63).astype(np.uint64)
    ones: Words = np.where(bits >= 64, np.uint64(_LOW), some - np.uint64(1))
    return ones


def parse_prefixes(texts: Sequence[str]) -> tuple[Prefixes, dict[int, str]]:
    """Many addresses and prefixes, as :func:`oaktag.core.addresses.parse_prefix` reads one.

    Returns:
        the prefixes, and of each text that is none its place and what is wrong with it (its row
        says ``0.0.0.0/0``).
    """
    count = len(texts)
    numbers, good = np.zeros(count, dtype=np.uint64), np.zeros(count, dtype=np.bool_)
    for start in range(0, count, _CHUNK):
        part = slice(start, start + _CHUNK)
        numbers[part], good[part] = _dotted(texts[part])
    family = np.full(count, 4, dtype=np.uint8)
    found = Prefixes(
        family, np.zeros(count, dtype=np.uint64), numbers, np.full(count, 32, dtype=np.uint8)
    )
    bad: dict[int, str] = {}
    for row in np.flatnonzero(~good).tolist():
        try:
            one = parse_prefix(texts[row])
        except ValueError as error:
            bad[row], one = str(error), Prefix(4, 0, 0)
        found.family[row], found.length[row] = one.family, one.length
        found.high[row], found.low[row] = one.start >> 64, one.start & _LOW
    return found, bad


def _dotted(texts: Sequence[str]) -> tuple[Words, Flags]:
    """The numbers of plain IPv4 addresses, and which texts are one: four numbers up to 255 without
    leading zeros, parted by dots. All texts are read at once, letter by letter."""
    points = np.array(texts, dtype=f"U{_LETTERS}").view(np.uint32).reshape(-1, _LETTERS)
    letters = np.ascontiguousarray(np.minimum(points, 0xFF).T.astype(np.uint8))
    count = len(points)
    total, part = np.zeros(count, dtype=np.uint64), np.zeros(count, dtype=np.uint16)
    digits, dots = np.zeros(count, dtype=np.uint8), np.zeros(count, dtype=np.uint8)
    # What is cut off, or holds a NUL, is longer than the letters that are there.
    good = (letters != 0).sum(axis=0) == np.fromiter(map(len, texts), dtype=np.int64, count=count)
    for letter in letters:
        digit, dot = (letter >= 48) & (letter <= 57), letter == 46
        good &= digit | dot | (letter == 0)
        good &= ~digit | (digits == 0) | (part > 0)  # no zero leads another digit
        # A part of more digits than fit is too large before it would be reduced.
        part = np.where(digit & good, part * 10 + (letter - np.uint8(48)), part)
        digits += digit
        good &= ~dot | (digits > 0)
        good &= part <= 255
        total = np.where(dot, total << np.uint64(8) | part, total)
        dots += dot
        part[dot], digits[dot] = 0, 0
    good &= (dots == 3) & (digits > 0)
    return total << np.uint64(8) | part, good

"""Endpoints as columns: merging of sources, corrections, stability, addresses.

Rules kept here (semantics, section 2): an endpoint is its id over all sources; a later source
replaces value and confidence together, lists whole; corrections come last and are certain, an
empty value takes the attribute away; ``id``, ``kind``, ``address`` and ``stability`` are
attributes too; stability not given is ``fixed`` for servers and networks, else ``unknown``.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import groupby
from typing import NamedTuple, cast

from oaktag.core.addresses import Prefix
from oaktag.core.arrays import Codes, Flags, Ints, NDArray, np
from oaktag.core.columns import Columns
from oaktag.core.prefixes import Prefixes, parse_prefixes
from oaktag.core.ranges import spread
from oaktag.errors import UsageError
from oaktag.located import Location

KINDS = ("user", "device", "server", "network")
STABILITIES = ("fixed", "reserved", "leased", "unknown")
STABLE = ("fixed", "reserved")

Value = tuple[str, ...]


class Values(Columns[Value]):
    """Distinct values, each a tuple of its elements.

    One of a single element is kept as that element alone, as are most: a million tuples of one
    text weigh more than the texts.
    """

    def __init__(self, held: Iterable[str | Value] = ()) -> None:
        self.held: list[str | Value] = list(held)

    def __len__(self) -> int:
        return len(self.held)

    def one(self, at: int) -> Value:
        """One of them, as a tuple."""
        held = self.held[at]
        return held if isinstance(held, tuple) else (held,)

    def take(self, rows: Ints) -> Values:
        """Those of some rows."""
        return Values(self.held[n] for n in rows.tolist())

    @cached_property
    def elements(self) -> tuple[list[str], Ints]:
        """All elements, value after value, and where those of each value start; [n + 1]."""
        if set(map(type, self.held)) <= {str}:
            return cast("list[str]", self.held), np.arange(len(self.held) + 1)
        flat: list[str] = []
        starts = [0]
        for value in self:
            flat += value
            starts.append(len(flat))
        return flat, np.array(starts, dtype=np.int64)

    @cached_property
    def prefixes(self) -> tuple[Prefixes, dict[int, str]]:
        """All elements as prefixes, and what is wrong with those that are none, by their place."""
        return parse_prefixes(self.elements[0])


class Coded(NamedTuple):
    """A column of values, dictionary-encoded: ``codes`` int32 [N] are places in ``values``, which
    are distinct; -1 says nothing."""

    codes: Codes
    values: Values


def coded(values: Iterable[Value]) -> Coded:
    """Values of a column, one a row; an empty one says nothing."""
    places: dict[Value, int] = {}
    codes = [places.setdefault(v, len(places)) if v else -1 for v in values]
    return Coded(
        np.array(codes, dtype=np.int32), Values(v[0] if len(v) == 1 else v for v in places)
    )


@dataclass(slots=True)
class Column:
    """One attribute of all endpoints, dictionary-encoded.

    Attributes:
        codes: int32 [N], index into ``values``; -1 where the endpoint lacks it.
        values: each distinct value once, a tuple of its elements.
        confidence: float32 [N], 1 where none was given.
        origin: int16 [N], index into ``Endpoints.origins``: who gave the value.
    """

    codes: Codes
    values: Values
    confidence: NDArray[np.float32]
    origin: NDArray[np.int16]

    def value(self, row: int) -> Value:
        """The endpoint's value; empty where it has none."""
        code = int(self.codes[row])
        return self.values[code] if code >= 0 else ()


@dataclass(slots=True)
class SourceTable:
    """What one source says, a row an endpoint.

    ``ids`` are distinct and not empty; ``lines`` are physical, int [rows]; ``columns`` maps an
    attribute to its values; ``confidences`` likewise to float [rows], where some were given.
    """

    kind: str
    file: str
    ids: list[str]
    lines: Sequence[int] | Ints
    columns: dict[str, Coded]
    confidences: dict[str, NDArray[np.float64]] = field(default_factory=dict)


@dataclass(slots=True)
class SessionFacts:
    """What sessions say beside where: rows in the order of time, each with where it is from;
    attributes ``session.NAME``."""

    files: list[str]
    endpoints: list[str]
    columns: dict[str, list[Value]]


class Correction(NamedTuple):
    """One attribute of one endpoint put right by hand; an empty value takes it away."""

    endpoint: str
    attribute: str
    value: Value
    location: Location


class Endpoints:
    """All endpoints of a workspace.

    Attributes:
        ids: their names, in the order of first appearance.
        columns: attribute → its column.
        kinds_differ: rows to which two sources give two kinds.
        origins: the files that gave values.
    """

    def __init__(
        self,
        sources: Sequence[SourceTable] = (),
        corrections: Sequence[Correction] = (),
        sessions: SessionFacts | None = None,
    ) -> None:
        self.ids: list[str] = []
        self.origins: list[str] = []
        self._files = [source.file for source in sources]
        rows_of = self._enter(sources)
        self.columns: dict[str, Column] = {}
        self._places: dict[str, dict[str | Value, int]] = {}
        self.kinds_differ: list[int] = []
        for source, rows in zip(sources, rows_of, strict=True):
            known = self.columns.get("kind")
            if known is not None:
                words = {n: kind for n, (kind,) in enumerate(known.values)}
                here = known.codes[rows]
                differ = [n for n, kind in words.items() if kind != source.kind]
                self.kinds_differ += rows[np.isin(here, differ)].tolist()
            origin, size = self._origin(source.file), len(rows)
            whole = np.arange(size, dtype=np.int32)
            self._merge("id", rows, Coded(whole, Values(source.ids)), None, origin)
            self._merge(
                "kind", rows, Coded(np.zeros_like(whole), Values([source.kind])), None, origin
            )
            for name, column in source.columns.items():
                self._merge(name, rows, column, source.confidences.get(name), origin)
        self.kinds_differ = list(dict.fromkeys(self.kinds_differ))
        if sessions is not None:
            rows = np.array([self.index[e] for e in sessions.endpoints], dtype=np.int64)
            begin = 0
            for file, some in groupby(sessions.files):
                end = begin + len(list(some))
                for name, values in sessions.columns.items():
                    given = coded(values[begin:end])
                    self._merge(name, rows[begin:end], given, None, self._origin(file))
                begin = end
        for correction in corrections:
            row, origin = self.index[correction.endpoint], self._origin(correction.location.file)
            given = coded([correction.value])
            self._merge(correction.attribute, np.array([row]), given, None, origin)
            if not correction.value:
                self.columns[correction.attribute].codes[row] = -1

    @classmethod
    def of(cls, *rows: Mapping[str, str]) -> Endpoints:
        """Endpoints of mappings with ``id``, ``kind`` and attributes, each of one value.

        Raises:
            UsageError: one has no id or no kind, or has an id that another has.
        """
        ids = [row.get("id", "") for row in rows]
        if not all(ids) or len(set(ids)) < len(ids):
            raise UsageError("endpoints need an id each, all different")
        if not all(row.get("kind") in KINDS for row in rows):
            raise UsageError(f"endpoints need a kind each: {', '.join(KINDS)}")
        tables = []
        for kind in dict.fromkeys(row["kind"] for row in rows):
            mine = [row for row in rows if row["kind"] == kind]
            names = dict.fromkeys(key for row in mine for key in row if key not in ("id", "kind"))
            columns = {n: coded([(row[n],) if row.get(n) else () for row in mine]) for n in names}
            numbers = range(1, len(mine) + 1)
            tables.append(SourceTable(kind, "", [row["id"] for row in mine], numbers, columns))
        return cls(tables)

    def with_instead(self, rows: Ints, changes: Sequence[tuple[str, str, str]]) -> Endpoints:
        """Some endpoints alone, each with one element of an attribute replaced by another.

        Args:
            rows: which; int64 [n]; one may stand there several times.
            changes: of each the attribute, what is replaced, and by what.
        """
        found = Endpoints()
        found.ids, found.origins = [self.ids[row] for row in rows.tolist()], self.origins
        of: dict[str, list[int]] = {}
        for place, (attribute, _, _) in enumerate(changes):
            of.setdefault(attribute, []).append(place)
        for name, column in self.columns.items():
            codes, back = np.unique(column.codes[rows], return_inverse=True)
            distinct = [column.values.one(code) if code >= 0 else () for code in codes.tolist()]
            values = [distinct[place] for place in back.tolist()]
            for place in of.get(name, ()):
                _, element, instead = changes[place]
                values[place] = tuple(instead if e == element else e for e in values[place])
            given = coded(values)
            found.columns[name] = Column(*given, column.confidence[rows], column.origin[rows])
        return found

    def with_session(self, row: int, facts: Mapping[str, str], file: str) -> Endpoints:
        """One endpoint alone, as a session tells of it; what was corrected by hand stays.

        Args:
            row: which.
            facts: attributes ``session.NAME``, with their values.
            file: where corrections are written.
        """
        found = self.with_instead(np.array([row], dtype=np.int64), ())
        for name, value in facts.items():
            column = found.columns.get(name)
            if column is not None and self.origins[int(column.origin[0])] == file:
                continue
            sure, none = np.ones(1, dtype=np.float32), np.full(1, -1, dtype=np.int16)
            found.columns[name] = Column(*coded([(value,) if value else ()]), sure, none)
        return found

    def holding(self, attribute: str, elements: Collection[str]) -> dict[str, Ints]:
        """The rows of those of whom an attribute has an element, of some elements."""
        column = self.columns[attribute]
        codes: dict[str, list[int]] = {}
        for code, value in enumerate(column.values):
            for element in value:
                if element in elements:
                    codes.setdefault(element, []).append(code)
        order = np.argsort(column.codes, kind="stable")
        ends = np.searchsorted(column.codes[order], np.arange(len(column.values) + 1))
        return {
            element: np.unique(np.concatenate([order[ends[c] : ends[c + 1]] for c in some]))
            for element, some in codes.items()
        }

    def __len__(self) -> int:
        return len(self.ids)

    @cached_property
    def index(self) -> dict[str, int]:
        """Name → row."""
        return {name: row for row, name in enumerate(self.ids)}

    def _origin(self, file: str) -> int:
        if file not in self.origins:
            self.origins.append(file)
        return self.origins.index(file)

    def _enter(self, sources: Sequence[SourceTable]) -> list[Ints]:
        """Take in the names of all sources; of each the rows of its endpoints."""
        rows_of: list[Ints] = []
        firsts: list[Ints] = []  # of each source its rows that nobody had before
        known: dict[str, int] = {}
        if not sources:
            return rows_of
        for source in sources:
            if source is sources[0]:
                self.ids = list(source.ids)
                known = self.index if len(sources) > 1 else {}
                rows_of.append(np.arange(len(self.ids)))
                firsts.append(np.arange(len(self.ids)))
                continue
            rows = np.empty(len(source.ids), dtype=np.int64)
            fresh: list[int] = []
            for number, name in enumerate(source.ids):
                row = known.get(name)
                if row is None:
                    row = known[name] = len(self.ids)
                    self.ids.append(name)
                    fresh.append(number)
                rows[number] = row
            rows_of.append(rows)
            firsts.append(np.array(fresh, dtype=np.int64))
        self._file = np.repeat(np.arange(len(sources)), [len(f) for f in firsts])
        lines = [
            np.asarray(s.lines, dtype=np.int64)[f] for s, f in zip(sources, firsts, strict=True)
        ]
        self._line = np.concatenate([*lines, np.empty(0, dtype=np.int64)]).astype(np.int32)
        return rows_of

    def _merge(
        self,
        name: str,
        rows: Ints,
        said: Coded,
        confidence: NDArray[np.float64] | None,
        origin: int,
    ) -> None:
        column = self.columns.get(name)
        if column is None:
            size = len(self.ids)
            column = self.columns[name] = Column(
                np.full(size, -1, dtype=np.int32), Values(), np.ones(size, dtype=np.float32),
                np.zeros(size, dtype=np.int16),
            )  # fmt: skip
        given = said.codes >= 0
        column.codes[rows[given]] = self._codes(name, column, said.values)[said.codes[given]]
        column.confidence[rows[given]] = 1 if confidence is None else confidence[given]
        column.origin[rows[given]] = origin

    def _codes(self, name: str, column: Column, values: Values) -> Codes:
        """The codes of some values in a column, which takes in those that it lacks."""
        if not len(column.values):
            column.values = values
            return np.arange(len(values), dtype=np.int32)
        places = self._places.get(name)
        if places is None or len(places) != len(column.values):
            places = self._places[name] = {v: n for n, v in enumerate(column.values.held)}
        codes = [places.setdefault(v, len(places)) for v in values.held]
        column.values = Values(places)
        return np.array(codes, dtype=np.int32)

    def location(self, row: int) -> Location:
        """Where the endpoint was first written."""
        return Location(self._files[self._file[row]], int(self._line[row]))

    def value(self, row: int, attribute: str) -> Value:
        """One attribute of one endpoint; empty where it has none."""
        column = self.columns.get(attribute)
        return column.value(row) if column else ()

    def kind(self, row: int) -> str:
        """``user``, ``device``, ``server`` or ``network``."""
        return self.value(row, "kind")[0]

    def stability(self, row: int) -> str:
        """Whether its address will be the same tomorrow."""
        given = self.value(row, "stability")
        if given:
            return given[0]
        return "fixed" if self.kind(row) in ("server", "network") else "unknown"

    def is_stable(self, row: int) -> bool:
        """Whether its address makes a standing binding."""
        return self.stability(row) in STABLE

    @cached_property
    def stable(self) -> Flags:
        """Whose address makes a standing binding, bool [N]."""
        kind = self.columns.get("kind")
        if kind is None:
            return np.zeros(0, dtype=np.bool_)
        words = np.array([v[0] in ("server", "network") for v in kind.values], dtype=np.bool_)
        stable: Flags = words[kind.codes]
        told = self.columns.get("stability")
        if told is not None:
            said = np.array([v[0] in STABLE for v in told.values] + [False], dtype=np.bool_)
            stable = np.where(told.codes >= 0, said[told.codes], stable)
        return stable

    @cached_property
    def _parsed(self) -> tuple[Prefixes, Ints]:
        """All distinct addresses, value after value, and where each value's start."""
        column = self.columns.get("address")
        values = Values() if column is None else column.values
        return values.prefixes[0], values.elements[1]

    def addresses(self, row: int) -> Sequence[Prefix]:
        """Its addresses and prefixes (well formed: the reader has checked them)."""
        column = self.columns.get("address")
        code = -1 if column is None else int(column.codes[row])
        if code < 0:
            return ()
        found, starts = self._parsed
        return found[int(starts[code]) : int(starts[code + 1])]

    def addresses_of(self, rows: Ints) -> tuple[Ints, Prefixes]:
        """All addresses of some endpoints: whose each is, and the addresses themselves."""
        column = self.columns.get("address")
        if column is None:
            return np.empty(0, dtype=np.int64), Prefixes.of(())
        found, starts = self._parsed
        rows = rows[column.codes[rows] >= 0]
        codes = column.codes[rows]
        low, high = starts[codes], starts[codes + 1]
        return np.repeat(rows, high - low), found.take(spread(low, high))

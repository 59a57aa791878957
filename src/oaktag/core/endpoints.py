"""Endpoints as columns: merging of sources, corrections, stability, addresses.

Rules kept here (semantics, section 2): an endpoint is its id over all sources; a later source
replaces value and confidence together, lists whole; corrections come last and are certain, an
empty value takes the attribute away; ``id``, ``kind``, ``address`` and ``stability`` are
attributes too; stability not given is ``fixed`` for servers and networks, else ``unknown``.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.addresses import Prefix, parse_prefix
from oaktag.located import Location

KINDS = ("user", "device", "server", "network")
STABILITIES = ("fixed", "reserved", "leased", "unknown")
STABLE = ("fixed", "reserved")

Value = tuple[str, ...]


@dataclass(slots=True)
class Column:
    """One attribute of all endpoints, dictionary-encoded.

    Attributes:
        codes: int32 [N], index into ``values``; -1 where the endpoint lacks it.
        values: each distinct value once, a tuple of its elements.
        confidence: float32 [N], 1 where none was given.
        origin: int16 [N], index into ``Endpoints.origins``: who gave the value.
    """

    codes: NDArray[np.int32]
    values: list[Value]
    confidence: NDArray[np.float32]
    origin: NDArray[np.int16]

    def value(self, row: int) -> Value:
        """The endpoint's value; empty where it has none."""
        code = int(self.codes[row])
        return self.values[code] if code >= 0 else ()


@dataclass(slots=True)
class SourceTable:
    """What one source says, a row an endpoint.

    ``columns`` maps an attribute to one value a row (empty: says nothing); ``confidences``
    likewise, where some were given.
    """

    kind: str
    file: str
    ids: list[str]
    lines: list[int]
    columns: dict[str, list[Value]]
    confidences: dict[str, list[float]] = field(default_factory=dict)


@dataclass(slots=True)
class SessionFacts:
    """What sessions say beside where: rows in the order of time, attributes ``session.NAME``."""

    file: str
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
        index: name → row.
        columns: attribute → its column.
        locations: where each was first written.
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
        self.index: dict[str, int] = {}
        self._where: list[tuple[str, int]] = []
        rows_of = [self._enter(source) for source in sources]
        self.columns: dict[str, Column] = {}
        self._codes: dict[str, dict[Value, int]] = {}
        self._parsed: dict[Value, list[Prefix]] = {}
        self.kinds_differ: list[int] = []
        kinds: dict[int, str] = {}
        for source, rows in zip(sources, rows_of, strict=True):
            for row in rows.tolist():
                if kinds.setdefault(row, source.kind) != source.kind:
                    self.kinds_differ.append(row)
            origin = self._origin(source.file)
            self._merge("id", rows, [(i,) for i in source.ids], None, origin)
            self._merge("kind", rows, [(source.kind,)] * len(rows), None, origin)
            for name, values in source.columns.items():
                self._merge(name, rows, values, source.confidences.get(name), origin)
        if sessions is not None:
            rows = np.array([self.index[e] for e in sessions.endpoints], dtype=np.int64)
            for name, values in sessions.columns.items():
                self._merge(name, rows, values, None, self._origin(sessions.file))
        for correction in corrections:
            row, origin = self.index[correction.endpoint], self._origin(correction.location.file)
            self._merge(correction.attribute, np.array([row]), [correction.value], None, origin)
            if not correction.value:
                self.columns[correction.attribute].codes[row] = -1

    def __len__(self) -> int:
        return len(self.ids)

    def _origin(self, file: str) -> int:
        if file not in self.origins:
            self.origins.append(file)
        return self.origins.index(file)

    def _enter(self, source: SourceTable) -> NDArray[np.int64]:
        rows = np.empty(len(source.ids), dtype=np.int64)
        for number, name in enumerate(source.ids):
            row = self.index.get(name)
            if row is None:
                row = self.index[name] = len(self.ids)
                self.ids.append(name)
                self._where.append((source.file, source.lines[number]))
            rows[number] = row
        return rows

    def _merge(
        self,
        name: str,
        rows: NDArray[np.int64],
        values: list[Value],
        confidence: list[float] | None,
        origin: int,
    ) -> None:
        column = self.columns.get(name)
        if column is None:
            size = len(self.ids)
            column = self.columns[name] = Column(
                np.full(size, -1, dtype=np.int32), [], np.ones(size, dtype=np.float32),
                np.zeros(size, dtype=np.int16),
            )  # fmt: skip
            self._codes[name] = {}
        codes = self._codes[name]
        fresh = np.array(
            [codes.setdefault(v, len(codes)) if v else -1 for v in values], dtype=np.int32
        )
        column.values = list(codes)
        given = fresh >= 0
        column.codes[rows[given]] = fresh[given]
        sure = np.ones(len(rows)) if confidence is None else np.array(confidence)
        column.confidence[rows[given]] = sure[given]
        column.origin[rows[given]] = origin

    def location(self, row: int) -> Location:
        """Where the endpoint was first written."""
        file, line = self._where[row]
        return Location(file, line)

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

    def addresses(self, row: int) -> list[Prefix]:
        """Its addresses and prefixes (well formed: the reader has checked them)."""
        value = self.value(row, "address")
        known = self._parsed.get(value)
        if known is None:
            known = self._parsed[value] = [parse_prefix(text) for text in value]
        return known

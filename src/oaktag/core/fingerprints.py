"""What a list depends on, as a hash: lists of equal fingerprints are the same, to the byte.

A column of the matrix is told by the rows that speak of it, in their order: the key of the line,
whether it is mirrored, what its permission says, and which groups its words stand for. A list is
told by the columns of its scope, the table of what its node knows, its point, and the addresses of
the segments that it judges between.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property
from hashlib import blake2b
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktag.core.groups import ITSELF
from oaktag.core.model import Model
from oaktag.core.network import Point, own_addresses
from oaktag.located import Location

SIZE = 16


def _hash(*told: object) -> bytes:
    return blake2b(repr(told).encode(), digest_size=SIZE).digest()


def _plain(value: Any) -> Any:
    """A value with its sets in order: what they are in by themselves differs from run to run."""
    if isinstance(value, frozenset):
        return sorted(map(_plain, value))
    return tuple(map(_plain, value)) if isinstance(value, tuple) else value


class Fingerprints:
    """Fingerprints of the lists of a model.

    Args:
        model: what they are made from.
        code: what makes them; another version of it may make others.
    """

    def __init__(self, model: Model, code: str) -> None:
        self.model = model
        policy = model.given.policy
        groups = tuple((group.id, group.tag) for group in model.groups.all)
        rules = policy.order, policy.default, policy.observed_default
        self._common = _hash(code, groups, rules, model.network.inside_pairs)
        self._tables: dict[int, bytes] = {}
        self._spans: dict[object, bytes] = {}

    def of(self, point: Point) -> str:
        """The fingerprint of a point's list."""
        network = self.model.network
        known = self.model.known(point.node)
        if id(known) not in self._tables:
            self._tables[id(known)] = _hash(known)
        for named in (point.origins, point.targets):
            if named not in self._spans:
                self._spans[named] = _hash(network.spans_of(named))
        told = blake2b(self._common, digest_size=SIZE)
        beside = [p._replace(location=_NOWHERE) for p in network.nodes[point.node].points]
        told.update(_hash(_plain(point._replace(location=_NOWHERE)), _plain(tuple(beside))))
        told.update(
            _hash(own_addresses(point, network), _plain(network.templates.get(point.template)))
        )
        told.update(self._tables[id(known)])
        told.update(self._spans[point.origins] + self._spans[point.targets])
        for asked in filter(None, (point, point.needed)):
            sources, destinations = self.model.scope(asked)
            for side in (tuple(sources), tuple(destinations)):
                if side not in self._spans:
                    self._spans[side] = _hash(side)
                told.update(self._spans[side])
            for group in destinations:
                told.update(self._toward[group])
                if not point.stateful:
                    told.update(self._from[group])
        return told.hexdigest()

    @cached_property
    def _rows(self) -> NDArray[np.uint8]:
        """What each row says; [rows, bytes]."""
        model, policy = self.model, self.model.given.policy
        rows = model.matrix.rows
        says = _stacked(
            _hash([e._replace(location=_NOWHERE) for e in p.steps]) for p in policy.permissions
        )
        keys = _stacked(bytes.fromhex(key) for key in model.keys)
        stands = _stacked(_hash(word, members.tolist()) for word, members in self._words.items())
        place = {word: n for n, word in enumerate(self._words)}
        lines = np.array([row.line for row in rows], dtype=np.int64)
        permissions = np.array([policy.lines[n].permission for n in lines.tolist()], dtype=np.int64)
        ends = [[place[row.source] for row in rows], [place[row.destination] for row in rows]]
        mirrored = np.array([[row.mirrored] for row in rows], dtype=np.uint8).reshape(-1, 1)
        parts = [
            keys[lines],
            mirrored,
            says[permissions],
            *(stands[np.array(e, int)] for e in ends),
        ]
        return np.concatenate(parts, axis=1)

    @cached_property
    def _words(self) -> dict[str, NDArray[np.int64]]:
        """The groups that each word of a row stands for."""
        words = {word for row in self.model.matrix.rows for word in row[1:3]} - {ITSELF}
        members = self.model.groups.members
        found = {word: np.array(members(word), dtype=np.int64) for word in sorted(words)}
        return {ITSELF: np.zeros(0, dtype=np.int64), **found}

    def _spoken(self, words: list[str]) -> list[bytes]:
        """Of each group what the rows say, in their order, of which a word stands for it."""
        every = [self._words[word] for word in words]
        groups = np.concatenate([np.zeros(0, dtype=np.int64), *every])
        rows = np.repeat(np.arange(len(every)), [len(some) for some in every])
        order = np.argsort(groups, kind="stable")
        said = self._rows[rows[order]] if len(order) else np.zeros((0, 1), np.uint8)
        ends = np.searchsorted(groups[order], np.arange(len(self.model.groups) + 1)).tolist()
        return [
            blake2b(said[low:high].tobytes(), digest_size=SIZE).digest()
            for low, high in pairwise(ends)
        ]

    @cached_property
    def _toward(self) -> list[bytes]:
        rows = self.model.matrix.rows
        return self._spoken([r.source if r.destination == ITSELF else r.destination for r in rows])

    @cached_property
    def _from(self) -> list[bytes]:
        return self._spoken([row.source for row in self.model.matrix.rows])


def _stacked(hashes: Iterable[bytes]) -> NDArray[np.uint8]:
    """Hashes of one length as rows of bytes."""
    found = [np.frombuffer(some, dtype=np.uint8) for some in hashes]
    return np.stack(found) if found else np.zeros((0, SIZE), dtype=np.uint8)


_NOWHERE = Location("")

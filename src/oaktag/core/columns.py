"""Many small things as columns: a sequence that makes one of them when it is asked for."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from typing import Any, Self, TypeVar, overload

from oaktag.core.arrays import NDArray, np

One = TypeVar("One", covariant=True)


class Columns(Sequence[One]):
    """Things of one kind, of which only columns are held."""

    @abstractmethod
    def one(self, row: int) -> One:
        """One of them, made."""

    @abstractmethod
    def take(self, rows: NDArray[Any]) -> Self:
        """Those of some rows: places, or a flag for each."""

    @overload
    def __getitem__(self, at: int) -> One: ...
    @overload
    def __getitem__(self, at: slice) -> Self: ...
    def __getitem__(self, at: int | slice) -> One | Self:
        if isinstance(at, slice):
            return self.take(np.arange(len(self))[at])
        return self.one(at)

"""NumPy, imported when something of it is first used, and the kinds of arrays that have names.

A question about one cell uses no array, and NumPy takes longer to import than that takes to
answer; so the modules on its way import it from here.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Ints = NDArray[np.int64]
    Flags = NDArray[np.bool_]
    Codes = NDArray[np.int32]
    Words = NDArray[np.uint64]
else:
    Ints = Flags = Codes = Words = Any

    class NDArray:
        """An array, in annotations."""

        def __class_getitem__(cls, kind: object) -> object:
            return Any

    class _Later:
        def __getattr__(self, name: str) -> object:
            import numpy

            found = getattr(numpy, name)
            setattr(self, name, found)
            return found

    np = _Later()

__all__ = ["Codes", "Flags", "Ints", "NDArray", "Words", "np"]

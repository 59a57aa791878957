"""Long work in parts, each by whoever is free: in this process, in others on this machine, on an
executor that is given, or on a cluster.

What all parts need is shared once with each worker. A part of a worker that is lost is done again
by another; what a part comes to does not depend on who does it.
"""

from __future__ import annotations

import copyreg
import gc
import multiprocessing
import os
import pickle
import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import (
    FIRST_COMPLETED,
    BrokenExecutor,
    CancelledError,
    Executor,
    Future,
    ProcessPoolExecutor,
    wait,
)
from contextlib import contextmanager
from hashlib import sha256
from itertools import islice
from types import MappingProxyType
from typing import Any, TypeVar

from oaktag.errors import OakTagError, UsageError

Shared = TypeVar("Shared")
Part = TypeVar("Part")
Done = TypeVar("Done")
Submit = Callable[[Any], Future[Any]]
#: Who works: this process (None), so many others, an executor, or the address of a cluster.
On = Executor | str | int | None
#: So many parts are given away at once.
AT_ONCE = 16
#: So many times work that was lost is begun again.
MOST_LOSSES = 3
#: So many seconds a scheduler is waited for.
PATIENCE = 10
#: How addresses of clusters begin.
_SCHEMES = ("tcp://", "tls://")

#: What this process was given to work with, by its hash.
_held: dict[str, Any] = {}
#: Workers of one process take turns: they share what they have worked out.
_turn = threading.Lock()


def _fixed(held: dict[Any, Any]) -> MappingProxyType[Any, Any]:
    return MappingProxyType(held)


def _as_dict(proxy: MappingProxyType[Any, Any]) -> tuple[Any, ...]:
    return _fixed, (dict(proxy),)


# Groups without traits share one mapping that nobody can change; it is sent as what it holds.
copyreg.pickle(MappingProxyType, _as_dict)


class WorkLostError(OakTagError):
    """Workers were lost again and again."""


def cores() -> int:
    """How many processes can work at once here."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def in_parts(
    work: Callable[[Shared, Part], Done], shared: Shared, parts: Iterable[Part], on: On
) -> Iterator[Done]:
    """What the parts come to, as they are done.

    Args:
        work: a function of a module, for what is shared and one part.
        shared: what all parts need; it can be pickled where others work.
        parts: the parts, taken as there is somebody for them.
        on: who works.

    Raises:
        UsageError: there is no such cluster, or the package for it is missing.
        WorkLostError: workers were lost, again and again.
    """
    if on is None or on == 1:
        for part in parts:
            yield work(shared, part)
        return
    numbered = enumerate(parts)
    left: dict[int, Part] = {}
    for _ in range(MOST_LOSSES):
        try:
            with _workers(work, shared, on) as submit:
                waiting = {submit(part): number for number, part in left.items()}
                while True:
                    for number, part in islice(numbered, max(0, AT_ONCE - len(waiting))):
                        left[number] = part
                        waiting[submit(part)] = number
                    if not waiting:
                        return
                    for future in wait(waiting, return_when=FIRST_COMPLETED).done:
                        done = future.result()
                        del left[waiting.pop(future)]
                        yield done
        except Exception as error:
            if not _is_loss(error):
                raise
            lost = error
    raise WorkLostError(
        f"workers were lost {MOST_LOSSES} times ({type(lost).__name__}: {lost}); is there room "
        "in memory for them? --jobs 1 does all in one process"
    )


def _is_loss(error: Exception) -> bool:
    """Whether an error says that a worker was lost, and not that the work failed."""
    lost = isinstance(error, (BrokenExecutor, CancelledError))
    return lost or type(error).__module__.partition(".")[0] == "distributed"


@contextmanager
def _workers(work: Callable[[Any, Any], Any], shared: object, on: On) -> Iterator[Submit]:
    """How a part is given to who works."""
    if isinstance(on, int):
        methods = multiprocessing.get_all_start_methods()
        context = multiprocessing.get_context("fork" if "fork" in methods else None)
        with ProcessPoolExecutor(on, context, _begin, (shared,)) as pool:
            try:
                yield lambda part: pool.submit(_at_hand, work, part)
            except BaseException:
                pool.shutdown(wait=False, cancel_futures=True)
                raise
        return
    text = pickle.dumps(shared)
    name = sha256(text).hexdigest()
    if isinstance(on, Executor):
        yield lambda part: on.submit(_sent, work, name, text, part)
        return
    assert on is not None, "somebody works"
    with _cluster(on) as client:
        # What is shared goes to every worker once; parts name it.
        (there,) = client.scatter([text], broadcast=True)
        with client.get_executor(pure=False, retries=MOST_LOSSES) as executor:
            yield lambda part: executor.submit(_sent, work, name, there, part)


def _begin(shared: object) -> None:
    """What a process of ours begins with."""
    gc.freeze()  # what is there from the beginning stays, and pages of it stay shared
    gc.set_threshold(100_000, 50, 100)  # and what comes to it is hardly ever in a circle
    _held[""] = shared


def _at_hand(work: Callable[[Shared, Part], Done], part: Part) -> Done:
    return work(_held[""], part)


def _sent(work: Callable[[Shared, Part], Done], name: str, text: bytes, part: Part) -> Done:
    """A part, by a worker that was sent what is shared."""
    with _turn:
        if name not in _held:
            _held.clear()
            _held[name] = pickle.loads(text)
        return work(_held[name], part)


@contextmanager
def _cluster(address: str) -> Iterator[Any]:
    """A client of a Dask scheduler."""
    if not address.startswith(_SCHEMES):
        raise UsageError(
            f"{address!r} is no address of a scheduler; it is written like tcp://192.0.2.10:8786"
        )
    try:
        from distributed import Client
    except ImportError:
        raise UsageError(
            "working on a cluster needs the package distributed: pip install 'oaktag[cluster]'"
        ) from None
    try:
        client = Client(address, timeout=PATIENCE)  # type: ignore[no-untyped-call]
    except (OSError, TimeoutError, ValueError) as error:
        raise UsageError(f"no scheduler answers at {address}: {error or 'time is out'}") from None
    try:
        yield client
    finally:
        client.close()  # type: ignore[no-untyped-call]

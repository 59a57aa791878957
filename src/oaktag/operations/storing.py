"""``store``: what the store of a workspace holds, whether it agrees with itself, what is let go."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from typing import ClassVar

from oaktag.errors import UsageError
from oaktag.operations.live_sessions import opened
from oaktag.operations.model import Model
from oaktag.operations.result import ABSENT, Result, Row
from oaktag.workspace.config_file import DAY
from oaktag.workspace.times import instant_text
from oaktag.workspace.whereabouts import url_of


@dataclass(frozen=True, eq=False, repr=False)
class Stored(Result):
    """What a store holds."""

    store: str
    kinds: list[Row]
    lasting: int
    differing: list[str] = field(default=ABSENT)
    dropped: list[Row] = field(default=ABSENT)
    command: ClassVar[str] = "store"
    table: ClassVar[str] = "kinds"


def stored(model: Model, *, check: bool = False, keep: int | None = None) -> Stored:
    """What the store of a workspace holds.

    Args:
        model: the workspace.
        check: work sessions out anew from the records, and say of which addresses they differ.
        keep: take out sessions that have been over for so many days, and their records.

    Raises:
        UsageError: there is no store.
    """
    config = model.files.config
    store = opened(model.files.root, config.store, config.session_timeout)
    if store is None:
        raise UsageError("there is no store yet; oaktag listen begins one")
    more: dict[str, list[Row]] = {}
    try:
        if keep is not None:
            store.close()
            from oaktag.store import Store

            url = url_of(model.files.root, config.store)
            store = Store(url, model.files.root, config.session_timeout, write=True)
            gone = store.drop_before(time.time_ns() // 1000 - keep * DAY)
            more["dropped"] = [{"kind": kind, "rows": rows} for kind, rows in gone.items()]
        now = time.time_ns() // 1000
        lasting = sum(s.at(now, store.timeout) for s in store.newest(now))
        kinds: list[Row] = [
            {
                "kind": held.kind, "rows": held.rows,
                "first": None if held.first is None else instant_text(held.first),
                "last": None if held.last is None else instant_text(held.last),
            }
            for held in store.held()
        ]  # fmt: skip
        differing = store.differing() if check else ABSENT
        return Stored(store.where, kinds, lasting, differing, more.get("dropped", ABSENT))
    finally:
        store.close()

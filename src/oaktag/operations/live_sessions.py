"""Sessions of the store, for whoever reads a workspace."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from oaktag.errors import NotPossibleHere
from oaktag.workspace.config_file import Config
from oaktag.workspace.folder import Live, LiveSession
from oaktag.workspace.times import instant_text
from oaktag.workspace.whereabouts import is_there, url_of

if TYPE_CHECKING:
    from oaktag.store import Store


def of_store(root: Path) -> Live:
    """What reads the sessions of a workspace's store, if it has one."""

    def live(named: str, timeout: int, moment: int | None) -> Sequence[LiveSession]:
        store = opened(root, named, timeout)
        if store is None:
            return ()
        try:
            when = (1 << 62) if moment is None else moment
            return [
                LiveSession(
                    s.endpoint, s.address, s.since, s.node, not s.at(when, timeout), dict(s.told)
                )
                for s in store.newest(when)
            ]
        finally:
            store.close()

    return live


def opened(root: Path, named: str, timeout: int) -> Store | None:
    """The store of a workspace, to be read; None where there is none yet.

    Raises:
        NotPossibleHere: there is one, and the packages that read it are not here.
    """
    if not is_there(root, named):
        return None
    try:
        from oaktag.store import NoStoreYet, Store
    except ModuleNotFoundError as error:
        raise NotPossibleHere(
            f"this workspace has a store, which needs the package {error.name}: "
            "pip install 'oaktag[live]'"
        ) from None
    try:
        return Store(url_of(root, named), root, timeout)
    except NoStoreYet:
        return None


def known_since(root: Path, config: Config, moment: int) -> str:
    """What is to be said of sessions as of a moment: whether the store knows of that time."""
    store = opened(root, config.store, config.session_timeout)
    if store is None:
        return "of later ones nothing is known"
    try:
        first = next(h.first for h in store.held() if h.kind == "records")
    finally:
        store.close()
    if first is None or first > moment:
        since = "" if first is None else f" before {instant_text(first)}"
        return f"the store knows of no session{since}"
    return "and those of the store"

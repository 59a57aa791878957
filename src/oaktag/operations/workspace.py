"""``oaktag.Workspace``: everything the commands show, as objects and pandas DataFrames."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

from oaktag.operations.model import Model
from oaktag.operations.of_changes import OfChanges
from oaktag.operations.of_network import OfNetwork
from oaktag.operations.of_people import OfPeople
from oaktag.operations.of_policy import OfPolicy

if TYPE_CHECKING:
    import pandas as pd

    from oaktag.operations.result import Result


class Workspace(OfPeople, OfPolicy, OfChanges, OfNetwork):
    """A workspace, read once; every answer is computed when it is first asked for.

    Use ``Workspace.load``. Methods are named after commands, and return what the commands print:
    small objects with named fields, which show themselves as text
    and HTML, and turn into JSON (``as_json``) and pandas frames (``frame``).
    """

    #: What is to be said of the time that it is of; "" for the present.
    as_of = ""

    @classmethod
    def load(
        cls,
        path: str | Path,
        today: date | None = None,
        *,
        asked: Sequence[str] = (),
        at: str | None = None,
        branch: str = "HEAD",
    ) -> Workspace:
        """Read the workspace in a folder, or as git had it at a time.

        Args:
            path: the folder with ``oaktag.yaml``.
            today: the day on which lines expire and pins end, UTC; the real one by default.
            asked: the ends of the only question that will be asked, of ``decide`` or
                ``cell``: where all are groups, sets or tags, no inventory is read.
            at: a time, RFC 3339: the newest commit that is not after it counts, and the sessions
                that had begun by then.
            branch: whose commits count then.

        Raises:
            UsageError: the folder is no workspace.
            WorkspaceError: its files cannot be read or contradict each other; every fault of
                the run is in ``problems``.
        """
        if at is not None:
            model, told = Model.read_at(Path(path), at, branch)
            found = cls(model)
            found.as_of = told
            return found
        day = None if today is None else today.toordinal()
        return cls(Model.read(Path(path), day, asked))

    @classmethod
    def from_objects(
        cls,
        groups: Iterable[Mapping[str, Any]],
        permissions: Mapping[str, Any],
        lines: Iterable[Any] | Mapping[str, Iterable[Any]] = (),
        endpoints: Iterable[Mapping[str, Any]] = (),
        *,
        sets: Mapping[str, Any] | None = None,
        services: Mapping[str, Any] | None = None,
        rules: Iterable[Mapping[str, Any]] = (),
        pins: Iterable[Mapping[str, Any]] = (),
        sessions: Iterable[Mapping[str, Any]] = (),
        network: Mapping[str, Any] | None = None,
        expectations: Iterable[Mapping[str, Any]] = (),
        config: Mapping[str, Any] | None = None,
        today: date | None = None,
    ) -> Workspace:
        """A workspace of plain objects, in the forms that the files have, with the same checks.

        Args:
            groups: as in ``groups.yaml``: ``{"id": "readers", "tag": 310}``.
            permissions: name → entries: ``{"web": [{"allow": "https"}]}``.
            lines: ``("readers", "shelves", "web")`` or mappings with the columns of a layer; or
                several layers in order, name → lines.
            endpoints: mappings with ``id``, ``kind`` and attributes, or a pandas DataFrame.
            sets, services, rules, pins, network, expectations: as in the files.
            sessions: mappings with ``endpoint``, ``address``, ``since``.
            config: more of ``oaktag.yaml``, as ``{"default": "allow"}``.
            today: the day on which lines expire and pins end.

        Raises:
            WorkspaceError: with every fault of all objects.

        Example:
            >>> ws = Workspace.from_objects(
            ...     [{"id": "readers", "tag": 310}, {"id": "shelves", "tag": 410}],
            ...     {"web": [{"allow": "https"}]},
            ...     [("readers", "shelves", "web")],
            ... )
            >>> ws.decide("readers", "shelves", "443/tcp").action
            'allow'
        """
        from oaktag.workspace.objects import folder_of

        folder = folder_of(
            groups=groups, permissions=permissions, lines=lines, endpoints=endpoints, sets=sets,
            services=services, rules=rules, pins=pins, sessions=sessions, network=network,
            expectations=expectations, config=config,
        )  # fmt: skip
        return cls(Model.read(folder, None if today is None else today.toordinal()))

    @property
    def settled(self) -> str | None:
        """Which interrupted change was finished when the workspace was read; None if there was
        none."""
        return self.model.files.folder.settled

    @staticmethod
    def frame(result: Result) -> pd.DataFrame:
        """The main rows of an answer as a DataFrame; the same as ``result.frame()``."""
        return result.frame()

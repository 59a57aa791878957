"""The model of a workspace that was read from its files: what is computed, and words for it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import UTC, date, datetime
from functools import cached_property
from pathlib import Path
from typing import Any

from oaktag.core import model as core
from oaktag.core.addresses import address_text
from oaktag.core.groups import Groups
from oaktag.core.packets import Box
from oaktag.core.question_words import End, Place, group_end, parse_end
from oaktag.core.service_names import NAMED
from oaktag.core.service_text import set_text
from oaktag.core.services import parse_service
from oaktag.core.sessions import SESSION
from oaktag.errors import UsageError
from oaktag.operations.live_sessions import known_since, of_store
from oaktag.workspace.folder import Folder
from oaktag.workspace.load import Files, is_workspace, load, read_files, same_in
from oaktag.workspace.times import SECOND, instant_text, parse_instant


def moment_of(day: int) -> int:
    """The moment asked for, in microseconds of the Unix epoch: now, or the end of another day."""
    now = datetime.now(UTC)
    if day == now.date().toordinal():
        return int(now.timestamp() * SECOND)
    return (day + 1 - date(1970, 1, 1).toordinal()) * 86_400 * SECOND - 1


class Model(core.Model):
    """The pieces of one workspace on one day.

    Args:
        files: what its files say.
        today: the day as a proleptic ordinal, UTC.
        like: another version, of which all is taken that is the same.
    """

    def __init__(self, files: Files, today: int, like: Model | None = None) -> None:
        assignments = files.assignments
        moment = moment_of(today) if files.moment is None else files.moment
        asked = [x.boxes for x in (*files.expectations, *files.keep_open)]
        asked += [x.boxes for x in files.borne]
        given = core.Given(
            files.groups,
            files.policy,
            files.endpoints,
            assignments.rules,
            assignments.pins_on(today),
            [*assignments.prefix_pins_on(today, moment), *files.adopted_pins],
            files.inventory.sessions,
            files.network,
            files.config.binding_order,
            [box for boxes in asked for box in boxes],
            today,
        )
        super().__init__(given if files.part is None else files.part.given(given), like)
        self.files = files

    @classmethod
    def read(
        cls,
        root: Path | Folder,
        today: int | None = None,
        asked: Sequence[str] = (),
        moment: int | None = None,
        like: Model | None = None,
    ) -> Model:
        """Read the workspace in a folder, or a version of one.

        Args:
            root: the folder, or the version.
            today: the day, as a proleptic ordinal.
            asked: words of a question about cells; where all of them speak of groups, nobody is
                read.
            moment: sessions and pins that begin after it do not count yet, in microseconds of the
                Unix epoch; by default now, or the end of another day.
            like: another version of that day and moment, of which all is taken that is the same.

        Raises:
            UsageError: the folder is no workspace.
            WorkspaceError: its files cannot be read, or contradict each other.
        """
        day = today or datetime.now(UTC).date().toordinal()
        moment = moment_of(day) if moment is None else moment
        if isinstance(root, Folder):
            root.live = root.live or of_store(root.path)
            have = same_in(None if like is None else like.files, root)
            return cls(read_files(root, moment, have=have), day, like)
        cls.must_be(root)

        def needs(groups: Groups) -> bool:
            return not asked or any(group_end(word, groups) is None for word in asked)

        files = load(root, moment, needs, of_store(root), None if like is None else like.files)
        return cls(files, day, like)

    @classmethod
    def read_at(cls, root: Path, time: str, branch: str = "HEAD") -> tuple[Model, str]:
        """Read the workspace as git had it at a time, with the sessions that had begun by then.

        Args:
            root: the folder.
            time: a day (its first moment) or a time, RFC 3339; without a zone it is UTC.
            branch: whose commits count.

        Returns:
            the workspace, and what is to be said of the answer.

        Raises:
            UsageError: it is no time, or git has nothing of it.
        """
        from oaktag.workspace.revision import commit_at, version

        moment = parse_instant(time)
        if moment is None:
            raise UsageError(f"{time!r} is no time: as 2026-11-27 or 2026-11-27T08:00:00Z")
        cls.must_be(root)
        commit, made = commit_at(root, moment, branch)
        day = date(1970, 1, 1).toordinal() + moment // (86_400 * SECOND)
        model = cls.read(version(root, commit), day, moment=moment)
        told = (
            f"as of {instant_text(moment)}: the files of the commit {commit[:12]} of "
            f"{instant_text(made)}, and the sessions that they name; "
            f"{known_since(root, model.files.config, moment)}"
        )
        return model, told

    @classmethod
    def read_version(cls, model: Model, word: str | Path) -> Model:
        """Read another version of a workspace: a folder, a git revision, or as of a time.

        Raises:
            UsageError: there is none.
        """
        from oaktag.workspace.revision import version

        root = model.files.root
        try:
            return cls.read(version(root, word), model.today, moment=model.files.moment, like=model)
        except UsageError:
            if isinstance(word, Path) or parse_instant(word) is None:
                raise
            return cls.read_at(root, word)[0]

    @staticmethod
    def must_be(root: Path) -> None:
        """That a folder is a workspace.

        Raises:
            UsageError: it is none.
        """
        if not is_workspace(root):
            raise UsageError(
                f"{root} is no workspace: it has no oaktag.yaml; `oaktag new DIR` starts one"
            )

    @cached_property
    def sessions_of(self) -> dict[int, list[dict[str, str]]]:
        """The addresses at which endpoints are by a session, since when and where from, by row."""
        found: dict[int, list[dict[str, str]]] = {}
        places = self.places
        for place in places.take(places.by == SESSION):
            prefix = place.address
            row = {
                "address": address_text(prefix.family, prefix.start),
                "since": "" if place.since is None else instant_text(place.since),
                "from": str(place.location),
            }
            found.setdefault(place.endpoint, []).append(row)
        return found

    @cached_property
    def named(self) -> Mapping[str, tuple[Box, ...]]:
        """The services that entries call by a name: of the workspace's own, and of the IANA
        registry. Of two names for the same packets neither says which line is meant."""
        own = self.files.permissions.services
        entries = (e for p in self.files.policy.permissions for e in p.entries)
        words = [word for e in entries for word in e.text.split(", ")]
        words += [part for held in self.files.permissions.named.values() for part in held.parts]
        used = dict.fromkeys(w for w in words if w in NAMED or w in own)
        boxes = {w: own[w] if w in own else parse_service(w) for w in used}
        count = Counter(frozenset(some) for some in boxes.values())
        return {word: some for word, some in boxes.items() if count[frozenset(some)] == 1}

    def text(self, mask: int) -> str:
        """Packets as services, in the words that the files use."""
        return set_text(self.atoms, mask, self.named)

    # -- words -------------------------------------------------------------------------------

    def end(self, word: str, *, points: bool = False, places: bool = False) -> End:
        """What a word stands for: a group, a set, a tag, an endpoint, an address, a node; where
        places are asked for a segment or a site too.

        Raises:
            UsageError: nothing known.
        """
        network = self.network
        known: dict[str, Place] = {}
        if places:
            known |= {n.site: "site" for n in network.nodes.values() if n.site}
            known |= dict.fromkeys(network.segments, "segment")
        known |= dict.fromkeys(network.nodes, "node")
        return parse_end(word, self.groups, self.files.endpoints, points=points, places=known)

    def groups_of(self, end: End) -> tuple[int, ...]:
        """The groups that an end stands for."""
        if end.kind == "endpoint":
            return (max(int(self.assignment.group[end.endpoint]), 0),)
        if end.kind == "address":
            return (self.groups.by_tag.get(self.registry.tag(*end.address), 0),)
        if end.kind in ("points", "node"):
            from oaktag.core.placement import node_hosts

            every = node_hosts(
                self.groups, self.network, self.registry, points=end.kind == "points"
            )
            mine = (h for h in every if end.kind == "points" or h.node == end.word)
            return tuple(sorted({h.group for h in mine}))
        return end.groups

    def some_groups(self, word: str) -> tuple[int, ...]:
        """The groups that a word of a question stands for, at least one.

        Raises:
            UsageError: nothing known, or no group.
        """
        end = self.end(word)
        groups = self.groups_of(end)
        if not groups:
            told = "has no address of its own" if end.kind == "node" else "holds no group"
            raise UsageError(f"{word!r} {told}")
        return groups

    def one_group(self, word: str) -> int:
        """The one group that a word of a command stands for.

        Raises:
            UsageError: nothing known, or a set of several.
        """
        groups = self.some_groups(word)
        if len(groups) > 1 or word == "*":
            names = ", ".join(self.groups.all[g].id for g in groups[:6])
            raise UsageError(f"{word!r} is a set; ask for one of its groups: {names}")
        return groups[0]

    def group_json(self, index: int) -> dict[str, Any]:
        """A group as JSON: its name and tag."""
        return {"group": self.groups.all[index].id, "tag": self.groups.tag(index)}

"""A whole workspace: every file read, every fault of the run collected, then raised once."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path
from posixpath import normpath
from typing import TYPE_CHECKING, NamedTuple

from oaktag.core.domains import Shared, name_of, pins_of
from oaktag.core.endpoints import Endpoints
from oaktag.core.groups import Groups
from oaktag.core.lines import Line, Policy
from oaktag.core.network import Network
from oaktag.core.registry import PrefixPin
from oaktag.errors import WorkspaceError
from oaktag.located import Location
from oaktag.workspace.adopted_files import read_documents
from oaktag.workspace.assignments_file import FILE as ASSIGNMENTS
from oaktag.workspace.assignments_file import Assignments, read_assignments
from oaktag.workspace.config_file import FILE, Config, read_config
from oaktag.workspace.expectations_file import (
    Borne,
    Expectation,
    ExpectationReader,
    read_expectations,
)
from oaktag.workspace.folder import Folder, Live
from oaktag.workspace.groups_file import FILE as GROUPS
from oaktag.workspace.groups_file import read_groups
from oaktag.workspace.inventory import Inventory, read_inventory
from oaktag.workspace.journal import interrupted, settle
from oaktag.workspace.matrix_file import read_layer
from oaktag.workspace.network_file import FILE as NETWORK
from oaktag.workspace.network_file import read_network
from oaktag.workspace.permissions_file import FILE as PERMISSIONS
from oaktag.workspace.permissions_file import Permissions, read_permissions
from oaktag.workspace.sharing_part import file_of
from oaktag.workspace.textfile import Problems

if TYPE_CHECKING:
    from oaktag.core.part import Part


class Files(NamedTuple):
    """What the files of a workspace say; all names in them exist. ``adopted``: what other domains
    share, as far as it is adopted, and the bindings that come of it. ``part``: of a part of their
    network, which ``network`` is then."""

    folder: Folder
    moment: int | None
    config: Config
    groups: Groups
    permissions: Permissions
    policy: Policy
    inventory: Inventory
    assignments: Assignments
    network: Network
    expectations: tuple[Expectation, ...]
    keep_open: tuple[Expectation, ...]
    borne: tuple[Borne, ...]
    adopted: tuple[Shared, ...] = ()
    adopted_pins: tuple[PrefixPin, ...] = ()
    part: Part | None = None

    @property
    def root(self) -> Path:
        """The workspace's folder."""
        return self.folder.path

    @property
    def endpoints(self) -> Endpoints:
        """All endpoints."""
        return self.inventory.endpoints


#: Whether a question needs to know who there is, when the groups are known.
Needs = Callable[[Groups], bool]


def always(_: Groups) -> bool:
    """Everybody is read."""
    return True


#: So often files are read that somebody writes meanwhile.
TRIES = 3


def load(
    root: Path, moment: int | None = None, needs: Needs = always, live: Live | None = None,
    like: Files | None = None,
) -> Files:  # fmt: skip
    """Read a workspace; of sessions those that have begun by a moment, if one is given.

    A question that ``needs`` nobody is answered without the inventory; neither are expectations
    read then, for they may name endpoints. What is ``live`` counts beside the files. What is the
    same in a version ``like`` it is taken from there.

    Files that are written while they are read are read again, so that what is returned was there
    at one time; a few times.

    Raises:
        UsageError: a change that was interrupted cannot be finished.
        WorkspaceError: with every fault found.
    """
    for _ in range(TRIES):
        folder = Folder(root)
        folder.live = live
        folder.settled = settle(root)
        files, fault = None, None
        try:
            files = read_files(folder, moment, needs, same_in(like, folder))
        except WorkspaceError as error:
            fault = error
        if not folder.stale() and not interrupted(root):
            break
    # What somebody writes all the time, as a list of sessions, is taken as it was at last; a change
    # that is made from it is still refused.
    if files is None:
        raise fault or AssertionError
    return files


class Kept(NamedTuple):
    """What need not be read again, for its files and those it depends on are as they were."""

    groups: Groups | None = None
    permissions: Permissions | None = None
    lines: Mapping[int, list[Line]] = {}
    named: Sequence[str] = ()
    inventory: Inventory | None = None
    network: Network | None = None
    assignments: Assignments | None = None
    adopted: tuple[Shared, ...] | None = None


NOTHING = Kept()


def _people(config: Config) -> list[str]:
    """The files that say who there is."""
    named = [config.sessions, config.corrections, *(s.file for s in config.sources)]
    return [name for name in named if name is not None]


def kept(files: Files, changed: Collection[str]) -> Kept:
    """What of a workspace stays as it is where other files are changed."""
    config = files.config
    people = {normpath(name) for name in _people(config)}
    touched = {normpath(name) for name in changed}
    if FILE in touched:
        return NOTHING
    same_people = not people & touched and len(files.endpoints.ids) > 0
    groups, network = GROUPS not in touched, not {NETWORK, GROUPS} & touched
    lines: dict[int, list[Line]] = {}
    if groups:
        lines = {n: [] for n, f in enumerate(config.layers) if normpath(f) not in touched}
        for line in files.policy.lines if lines else ():
            if line.layer in lines:
                lines[line.layer].append(line)
    return Kept(
        files.groups if groups and not touched & {a.file for a in config.adopt} else None,
        files.permissions if PERMISSIONS not in touched else None,
        lines,
        [permission.name for permission in files.policy.permissions],
        files.inventory if same_people else None,
        files.network if network else None,
        files.assignments if network and same_people and ASSIGNMENTS not in touched else None,
        None if touched & {a.file for a in config.adopt} else files.adopted,
    )


def same_in(files: Files | None, folder: Folder) -> Kept:
    """What of a version another folder holds to the byte, and need not be read again there."""
    if files is None or not files.folder.same(FILE, folder):
        return NOTHING
    config = files.config
    names = [GROUPS, PERMISSIONS, NETWORK, ASSIGNMENTS, *_people(config), *config.layers]
    names += [a.file for a in config.adopt]
    try:
        told = folder.sessions(config.store, config.session_timeout, files.moment)
    except (OSError, ValueError, TypeError, LookupError):  # which reading it complains of
        return NOTHING
    if list(told) != list(files.folder.told):
        return NOTHING
    return kept(files, [name for name in names if not files.folder.same(name, folder)])


def read_files(
    root: Folder, moment: int | None = None, needs: Needs = always, have: Kept = NOTHING
) -> Files:
    """Read a workspace from wherever its files are.

    Raises:
        WorkspaceError: with every fault found.
    """
    problems = Problems()
    config = read_config(root, problems)
    if config is None:
        raise problems.error()
    adopted = have.adopted
    if adopted is None:
        adopted = read_documents(root, config.adopt, problems)
    told = {name_of(shared.origin, g.id): g for shared in adopted for g in shared.groups}
    groups = have.groups or read_groups(root, config.numbering, problems, told)
    permissions = have.permissions or read_permissions(root, problems)
    lines: list[Line] = []
    named = None if permissions is None else permissions.permissions
    names = [permission.name for permission in named or ()]
    same = names[: len(have.named)] == list(have.named)  # lines name them by their numbers
    for number, name in enumerate(config.layers):
        if same and number in have.lines:
            lines += have.lines[number]
        else:
            lines += read_layer(root, name, number, groups, named, problems)
    inventory, endpoints = None, None
    people = groups is None or needs(groups)
    if people:
        inventory = have.inventory or read_inventory(root, config, problems, moment)
        endpoints = None if inventory is None else inventory.endpoints
    else:
        inventory = Inventory(Endpoints([]))
    network = have.network or read_network(root, groups, problems)
    nodes = set(network.nodes)
    assignments = have.assignments or read_assignments(root, groups, endpoints, nodes, problems)
    expectations: list[Expectation] = []
    keep_open: list[Expectation | None] = []
    borne: list[Borne | None] = []
    if groups is not None and permissions is not None and endpoints is not None:
        services = permissions.services
        expectations = read_expectations(root, groups, endpoints, services, network.nodes, problems)
        reader = ExpectationReader(config.file, groups, endpoints, services, network.nodes)
        items = config.file.items(config.keep_open, "keep_open")
        keep_open = [reader.keep_open(node) for node in items]
        borne = [reader.borne(node) for node in config.borne]
    if problems.count and not people:
        return read_files(root, moment)  # which says all that is wrong
    if problems.count or groups is None or permissions is None or inventory is None:
        raise problems.error()
    return Files(
        root, moment, config, groups, permissions,
        Policy(
            tuple(lines), permissions.permissions, config.layers, config.default,
            config.observed_default, config.order,
        ),
        inventory, assignments, network, tuple(expectations),
        tuple(k for k in keep_open if k is not None),
        tuple(b for b in borne if b is not None), adopted,
        tuple(p for a in adopted for p in pins_of(a, groups, Location(file_of(a.origin)))),
    )  # fmt: skip


def is_workspace(root: Path) -> bool:
    """Whether a folder is a workspace."""
    return (root / FILE).is_file()

"""Groups of other domains: what their documents say now, whether that may be in force here, and the
change of our files that puts it in force.

Rules kept here (live.md, The other domain): a document that is older, of somebody else, wrongly
signed, or speaks of an address of ours or of a third domain, is refused whole, and the last good
one stays in force; a group of theirs keeps the tag that it has here, also under another name.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from oaktag.core.addresses import Prefix
from oaktag.core.domains import Claims, Shared, name_of
from oaktag.core.prefixes import Prefixes
from oaktag.errors import NoAnswer, UsageError, WorkspaceError
from oaktag.findings import Finding, finding
from oaktag.located import Location
from oaktag.operations.model import Model
from oaktag.workspace import edits
from oaktag.workspace.adopted_files import held, wanted
from oaktag.workspace.config_file import FILE as CONFIG
from oaktag.workspace.domain_file import UnreadableDocument
from oaktag.workspace.groups_file import FILE as GROUPS
from oaktag.workspace.renaming import renamed
from oaktag.workspace.sharing_part import Adopt
from oaktag.workspace.yaml_edits import with_group, with_issued_to

#: So many contested prefixes are named.
NAMED = 3


class Refused(NamedTuple):
    """Why a domain's document is not taken; ``silent``: for there is none, or nobody answers."""

    origin: str
    why: str
    silent: bool = False


class Found(NamedTuple):
    """A domain's document as it is now, its text, and the one that is in force (None: none)."""

    shared: Shared
    text: str
    held: Shared | None


def found_now(model: Model, adopt: Adopt) -> Found | Refused:
    """What a domain's document says now, or why it may not be in force here.

    Raises:
        UsageError: our key cannot be read.
    """
    from oaktag.sources.domain import fetched, verified

    root = model.files.folder
    before = held(root, adopt)
    try:
        data = fetched(adopt, model.files.root)
        shared = verified(adopt, data).shared
    except NoAnswer as error:
        return Refused(adopt.origin, str(error), silent=True)
    except UnreadableDocument as error:
        return Refused(adopt.origin, str(error))
    if before is not None and shared.serial < before.serial:
        why = f"it is older ({shared.serial}) than what is in force here ({before.serial})"
        return Refused(adopt.origin, why)
    if (
        before is not None
        and shared.serial == before.serial
        and (shared.made, shared.groups) != (before.made, before.groups)
    ):
        return Refused(adopt.origin, f"it says otherwise under the same serial, {shared.serial}")
    if contested := list(contested_by(model, adopt, shared)):
        some = "; ".join(contested[:NAMED])
        more = f"; and {len(contested) - NAMED:,} more" if len(contested) > NAMED else ""
        return Refused(adopt.origin, f"it speaks of what is not its own: {some}{more}")
    return Found(shared, data.decode(), before)


def contested_by(model: Model, adopt: Adopt, shared: Shared) -> Iterator[str]:
    """What a document speaks of that is ours, or another domain's; in words."""
    prefixes = wanted(adopt, shared).prefixes
    for claims in (*_ours(model, adopt.origin), *_theirs(model, adopt.origin)):
        for one in claims.contested(prefixes):
            yield f"{one.prefix} ({one.whose})"
    # Whole networks, pinned or in the inventory, are no claim to what is inside them, as the
    # internet is none; to what is equal to them or wider they are.
    whole = _networks(model)
    for network, _ in Claims(Prefixes.of(prefixes), lambda _: "theirs").contested(list(whole)):
        for prefix in (p for p in prefixes if p.holds(network)):
            yield f"{prefix} ({network} is {whole[network]})"


def not_its_own(place: Location, origin: str, told: str) -> Finding:
    """The finding that a domain speaks of what is not its own."""
    return finding(
        "OT501", place, f"{origin} speaks of {told}",
        "settle with it whose it is; on a segment of theirs, origin: says so",
    )  # fmt: skip


def _ours(model: Model, origin: str) -> Iterator[Claims]:
    """The addresses that are ours: of segments but those of the domain, of nodes, of endpoints."""
    network = model.network
    # A segment of theirs may lie in a wider one of ours.
    segments = [
        (p, "" if s.origin == origin else f"on our segment {s.name}")
        for s in network.segments.values()
        for p in s.prefixes
    ]
    yield Claims(Prefixes.of(p for p, _ in segments), lambda n: segments[n][1])
    named = [(a, f"of our node {n.name}") for n in network.nodes.values() for a in n.addresses]
    yield Claims(Prefixes.of(p for p, _ in named), lambda n: named[n][1])
    ids, places = model.files.endpoints.ids, model.places
    single = places.take(~places.addresses.wide)
    yield Claims(single.addresses, lambda n: f"of our endpoint {ids[int(single.endpoint[n])]}")


def _networks(model: Model) -> dict[Prefix, str]:
    """Whole networks that our files speak of, and where."""
    ids, places = model.files.endpoints.ids, model.places
    found = {
        p.address: f"our endpoint {ids[p.endpoint]}" for p in places.take(places.addresses.wide)
    }
    pins = (p for p in model.prefix_pins if p.source == "pinned")
    return found | {p.prefix: f"pinned in {p.location}" for p in pins}


def _theirs(model: Model, origin: str) -> Iterator[Claims]:
    """The addresses that other domains speak of."""
    for other in model.files.adopted:
        if other.origin != origin:
            whose = [f"of {other.origin} too"] * len(other.prefixes)
            yield Claims(Prefixes.of(other.prefixes), whose.__getitem__)


class Adopted(NamedTuple):
    """What adopting comes to: the changed files, what is to be said of it, and what is refused."""

    changed: dict[str, str]
    notes: list[str]
    refused: list[Refused]


def adopted(model: Model, domains: Sequence[Adopt]) -> Adopted:
    """The change of our files that puts the documents of domains in force, one after the other.

    Raises:
        UsageError: our key cannot be read, or no number is left for a group.
    """
    changed: dict[str, str] = {}
    notes: list[str] = []
    refused: list[Refused] = []
    for adopt in domains:
        found = found_now(model, adopt)
        if isinstance(found, Refused):
            refused.append(found)
            continue
        more, said = _with(model, adopt, found)
        notes += said
        if not more:
            continue
        changed |= more
        try:
            model = Model(edits.try_out(model.files, changed), model.today, model)
        except WorkspaceError as error:
            raise edits.checked(error) from None
    return Adopted(changed, notes, refused)


def _with(model: Model, adopt: Adopt, found: Found) -> tuple[dict[str, str], list[str]]:
    """The changed files in which a document is in force, and what is to be said of that.

    Raises:
        UsageError: no number is left for a group.
    """
    root, index = model.files.folder, model.groups.index

    def name(group: str) -> str:
        return name_of(adopt.origin, group)

    before = () if found.held is None else wanted(adopt, found.held).groups
    now = {g.id: g for g in wanted(adopt, found.shared).groups}
    changed = {adopt.file: found.text}
    notes = [f"{adopt.origin} shares no {g}" for g in adopt.groups if g not in now]
    gone = {g.tag: g.id for g in before if g.id not in now and name(g.id) in index}
    lacking = [g for g in now.values() if name(g.id) not in index]
    for group in [g for g in lacking if g.tag in gone]:
        # Under another name it is the same group: what our files say of it goes on.
        old = gone.pop(group.tag)
        files = model.files._replace(folder=root.over(changed))
        changed |= renamed(files, name(old), name(group.id))
        lacking.remove(group)
        notes.append(f"{name(old)} is called {name(group.id)} now, and keeps its tag here")
    notes += [
        f"{adopt.origin} shares {old} no more: {name(old)} has no bindings then"
        for old in gone.values()
    ]
    was = {g.id: set(g.prefixes) for g in before}
    for group in now.values():
        held, holds = was.get(group.id, set()), set(group.prefixes)
        ways = ((len(holds - held), "comes", "come"), (len(held - holds), "goes", "go"))
        told = [
            f"{n:,} prefix{'es' * (n != 1)} {one if n == 1 else many}" for n, one, many in ways if n
        ]
        notes += [f"{name(group.id)}: {', '.join(told)}"] if told else []
    if lacking:
        numbering, taken = model.groups.numbering, [int(t) for t in model.groups.tags]
        numbers = numbering.issue(taken, len(lacking))
        if len(numbers) < len(lacking):
            raise UsageError(
                f"{CONFIG} has too few numbers left for {len(lacking)} groups of {adopt.origin}; "
                "tags: {issue: 2000-2999} names a range"
            )
        groups = changed.get(GROUPS, root.text(GROUPS))
        for group, tag in zip(lacking, numbers, strict=True):
            groups = with_group(groups, {"id": name(group.id), "tag": f"issued {tag}"})
        config = changed.get(CONFIG, root.text(CONFIG))
        top = numbering.highest([*taken, *numbers])
        changed |= {GROUPS: groups, CONFIG: with_issued_to(config, top)}
    return {n: text for n, text in changed.items() if text != root.text(n)}, notes

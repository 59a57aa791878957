"""``lab``: the workspace's network from namespaces, kept up to date, broken and healed, probed.

A lab remembers the files that it was made from: all that is said of it goes by those, never by the
folder's, which may have moved on.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from pathlib import Path as FilePath
from typing import Any, ClassVar, get_args

from oaktag.core.service_text import parse_asked
from oaktag.errors import UsageError
from oaktag.lab.handle import HOURS, Held, Lab, Version
from oaktag.lab.plan import Probe
from oaktag.operations.accepting import Accepting
from oaktag.operations.compare import Changes, changes
from oaktag.operations.json_parts import Document
from oaktag.operations.lab_pack import changed_by_hand, pack
from oaktag.operations.lab_part import Asked, part_told, parted
from oaktag.operations.lab_plan import (
    Beings,
    Broken,
    BrokenKind,
    failing,
    names_of,
    plan_of,
)
from oaktag.operations.lab_probe import (
    FARED,
    Fared,
    Outcome,
    Telling,
    counters,
    counts_of,
    fared,
    key_of,
)
from oaktag.operations.lab_reach import reach_agrees
from oaktag.operations.lab_trials import Trials, Trying
from oaktag.operations.model import Model
from oaktag.operations.result import ABSENT, Result, Row
from oaktag.workspace.folder import LIVE, Folder
from oaktag.workspace.load import read_files
from oaktag.workspace.lock import own_folder

Progress = Callable[[str], None]


@dataclass(frozen=True, eq=False, repr=False)
class LabUp(Result):
    """The lab that is up, and how packets fared in it before any list."""

    nodes: int
    hosts: int
    links: int
    tunnels: int
    points: list[str]
    feeds: list[Row]
    lists: bool
    baseline: dict[str, int]
    hours: float
    part: Row | None = field(default=ABSENT)
    command: ClassVar[str] = "lab up"
    shown_by: ClassVar[str] = "lab"


@dataclass(frozen=True, eq=False, repr=False)
class LabChanged(Result):
    """What a lab was brought up to date in."""

    things: list[Row]
    tables: list[Row]
    ended: int
    cells: list[Row]
    endpoints: list[Row]
    points: list[Row]
    broken: list[Row]
    restored: list[str]
    command: str = "lab apply"
    shown_by: ClassVar[str] = "lab"
    table: ClassVar[str] = "things"


@dataclass(frozen=True, eq=False, repr=False)
class LabProbed(Result):
    """What packets did, against what is meant and what we say of them."""

    moved_on: list[str]
    lists: bool
    broken: list[Row]
    probes: list[Row]
    summary: dict[str, int]
    not_probed: list[Row]
    counters: list[Row]
    touched: list[str]
    packed: str
    against: dict[str, int] | None = field(default=ABSENT)
    command: ClassVar[str] = "lab probe"
    shown_by: ClassVar[str] = "lab"
    table: ClassVar[str] = "probes"

    @property
    def odd(self) -> bool:
        """Whether a probe fared otherwise than meant or told, or counters do not agree."""
        fine = ("as meant", "no list yet", "accepted")
        wrong = any(p["verdict"] not in fine or not p["agrees"] for p in self.probes)
        return wrong or not all(row["agree"] for row in self.counters)


@dataclass(frozen=True, eq=False, repr=False)
class LabDown(Result):
    """Whether a lab was up."""

    was_up: bool
    command: ClassVar[str] = "lab down"
    shown_by: ClassVar[str] = "lab"


def lab_of(model: Model) -> Lab:
    """The lab of this workspace, running or not."""
    return Lab(model.files.root)


# -- versions ------------------------------------------------------------------------------------


def held_by(lab: Lab, root: FilePath) -> tuple[Model, list[Broken], Held]:
    """The workspace that a lab is made as, with what is broken in it; and that alone.

    Raises:
        OakTagError: no lab is up.
    """
    held = lab.held()
    return _of_held(held, root), _broken_in(held), held


def _of_held(held: Held, root: FilePath) -> Model:
    folder = peopled(root, held.files, held.facts["people"])
    return failing(_mended(held, folder), _broken_in(held))


def _mended(held: Held, folder: Folder) -> Model:
    """The workspace that a lab is made as, or the part of it, with nothing broken."""
    whole = Model(read_files(folder, held.facts["moment"]), held.facts["day"])
    return parted(whole, held.facts["part"])


def peopled(root: FilePath, files: dict[str, bytes], people: Sequence[Row]) -> Folder:
    """Files of a workspace, with those besides who logged in in its lab."""
    known = json.loads(files.get(LIVE, b"[]"))
    told = json.dumps([*known, *people], ensure_ascii=False).encode()
    return Folder(root, files | {LIVE: told} if people else files, alone=True)


def _broken_in(held: Held) -> list[Broken]:
    return [Broken(kind, name) for kind, name in held.facts["broken"]]


def _version(
    model: Model, files: dict[str, bytes], moment: int | None, broken: Sequence[Broken],
    part: Asked, people: Sequence[Row] = (),
) -> Version:  # fmt: skip
    """A version of a workspace as a lab keeps it; the model is the one with what is broken, and
    with those who logged in there."""
    facts = {
        "day": model.today, "moment": moment, "broken": [list(b) for b in broken], "part": part,
        "people": list(people),
    }  # fmt: skip
    return Version(files, facts, plan_of(model, Beings(model)))


def _moved_on(model: Model, held: Held) -> list[str]:
    """The files that are others in the folder than in the lab; the day, where that is another."""
    now = model.files.folder.copies()
    names = [n for n in sorted({*now, *held.files}) if now.get(n) != held.files.get(n)]
    return names + (["the day"] if model.today != held.facts["day"] else [])


# -- up, apply, break, heal, down ----------------------------------------------------------------


def up(
    whole: Model, hours: float = HOURS, *, sites: Sequence[str] = (), nodes: Sequence[str] = (),
    lists: bool = True, progress: Progress | None = None,
) -> LabUp:  # fmt: skip
    """Build the network, send every probe once before any list, and load the lists.

    Args:
        whole: the workspace.
        hours: when it ends by itself.
        sites, nodes: of a part of the network; what surrounds it is folded to one node each side.
        lists: whether the points get their lists.
        progress: told what is done.

    Raises:
        NotPossibleHere: in one sentence, what this machine lacks.
        UsageError: there is no such site or node.
    """
    asked: Asked = {"sites": list(sites), "nodes": list(nodes)}
    model = parted(whole, asked)
    lab = lab_of(model)
    version = _version(model, model.files.folder.copies(), model.files.moment, (), asked)
    plan = version.plan
    with ThreadPoolExecutor(1) as pool:  # the network is built by another process meanwhile
        waiting = pool.submit(Trying(model, Beings(model)).every)
        lab.start(version, hours, progress)
        sent = waiting.result()
    if progress is not None:
        progress(f"{len(sent.sent)} probes before any list")
    seen = lab.ask("probe", **sent.request(), meant=[True] * len(sent.sent))["fared"]
    told = [t.fares for t in Telling(model, lists=False).tell_all(sent.sent)]
    hows = _tried_again(lab, sent, [fared(*one) for one in seen], told)
    rows = list(zip(sent.sent, hows, strict=True))
    lab.keep("baseline", [[_key(t.probe), how == FARED[0]] for t, how in rows])
    if lists:
        lab.apply(version, lists=True)
    brought = lab.ask("state")["brought"]
    part = part_told(whole, model)
    return LabUp(
        nodes=len(plan.nodes), hosts=len(plan.hosts), links=len(plan.links),
        tunnels=sum(link.carries for link in plan.links.values()), points=list(plan.points),
        feeds=[{"feed": name, "bindings": n} for name, n in brought.items()],
        lists=lists, baseline=dict(Counter(how for _, how in rows)), hours=hours,
        **({} if part is None else {"part": part}),
    )  # fmt: skip


def apply(whole: Model) -> LabChanged:
    """Bring the lab to the folder's present state, in place; what is broken stays so where it is
    still there.

    Raises:
        OakTagError: no lab is up.
        UsageError: a site or node of which it is the lab is gone.
    """
    lab = lab_of(whole)
    held = lab.held()
    files, people = whole.files.folder.copies(), held.facts["people"]
    if people:
        folder = peopled(whole.files.root, files, people)
        whole = Model(read_files(folder, whole.files.moment), whole.today)
    model = parted(whole, held.facts["part"])
    known = names_of(model.network)
    left = [b for b in _broken_in(held) if b.name in known[b.kind]]
    now = failing(model, left)
    version = _version(now, files, model.files.moment, left, held.facts["part"], people)
    done = lab.apply(version, lists=True, restore=True)
    return _changed("lab apply", _of_held(held, model.files.root), now, done, left)


def fail(model: Model, kind: str, name: str) -> LabChanged:
    """Let something in the lab fail.

    Raises:
        UsageError: there is no such thing, or it has failed already.
        OakTagError: no lab is up.
    """
    lab = lab_of(model)
    was, broken, held = held_by(lab, model.files.root)
    one = _one(kind, name)
    if one in broken:
        raise UsageError(f"the {kind} {name} is broken already; oaktag lab heal mends it")
    return _failing("lab break", lab, was, held, [*broken, one])


def _one(kind: str, name: str) -> Broken:
    for known in get_args(BrokenKind):
        if kind == known:
            return Broken(known, name)
    raise UsageError(f"a {kind!r} cannot fail; one of {', '.join(get_args(BrokenKind))} can")


def heal(model: Model, kind: str | None = None, name: str | None = None) -> LabChanged:
    """Mend what was broken in the lab: one thing, or all.

    Raises:
        UsageError: it is not broken.
        OakTagError: no lab is up.
    """
    lab = lab_of(model)
    was, broken, held = held_by(lab, model.files.root)
    left = [b for b in broken if kind is not None and b != (kind, name)]
    if len(left) == len(broken):
        told = ", ".join(f"{b.kind} {b.name}" for b in broken) or "nothing"
        raise UsageError(f"{f'{kind} {name}' if kind else 'nothing'} is broken; broken is: {told}")
    return _failing("lab heal", lab, was, held, left)


def _failing(
    command: str, lab: Lab, was: Model, held: Held, broken: Sequence[Broken]
) -> LabChanged:
    now = failing(_mended(held, was.files.folder), broken)
    moment, part, people = (held.facts[key] for key in ("moment", "part", "people"))
    version = _version(now, held.files, moment, broken, part, people)
    return _changed(command, was, now, lab.apply(version, lists=held.lists), broken)


def with_people(lab: Lab, was: Model, held: Held, people: Sequence[Row], moment: int) -> LabChanged:
    """Make a lab one in which others are logged in, with all else as it is.

    Args:
        lab: the lab.
        was: the workspace that it is made as; and that alone.
        held: the same, as the lab keeps it.
        people: their sessions, as files of a workspace keep them.
        moment: as of when.
    """
    broken, part = _broken_in(held), held.facts["part"]
    held.facts["moment"] = moment
    now = failing(_mended(held, peopled(was.files.root, held.files, people)), broken)
    version = _version(now, held.files, moment, broken, part, people)
    return _changed("lab apply", was, now, lab.apply(version, lists=held.lists), broken)


def _changed(
    command: str, was: Model, now: Model, done: dict[str, Any], broken: Sequence[Broken]
) -> LabChanged:
    things = [
        {"kind": kind.removesuffix("s"), "name": name.rpartition("@")[0] or name, "what": what}
        for kind in ("nodes", "links", "hosts", "feeds", "points")
        for what, word in (("gone", "gone"), ("come", "come"), ("changed", "other"))
        for name in done[kind][word]
    ]
    tables = [
        {"node": node, "come": come, "gone": gone}
        for node, (come, gone) in done["tables"].items()
        if come or gone
    ]
    if was.files.folder is now.files.folder:  # something fails or is mended; no file changed
        found = Changes([], [], [])
    else:
        found = changes(was, now)
    return LabChanged(
        things=things, tables=tables, ended=done["ended"], cells=found.cells,
        endpoints=found.endpoints, points=found.points, broken=_broken(broken), command=command,
        restored=done["restored"],
    )  # fmt: skip


def _broken(broken: Sequence[Broken]) -> list[Row]:
    return [{"kind": b.kind, "name": b.name} for b in broken]


def down(model: Model) -> LabDown:
    """Take the network away."""
    return LabDown(was_up=lab_of(model).stop())


# -- probes --------------------------------------------------------------------------------------


def probe(
    model: Model, source: str | None = None, destination: str | None = None,
    service: str | None = None, *, card: bool = False, against: Mapping[str, Any] | None = None,
    progress: Progress | None = None,
) -> LabProbed:  # fmt: skip
    """Send every probe, or those of one question or of the card, through what the lab holds now.

    Args:
        model: the folder's workspace; its lab may be of an older version.
        source, destination, service: one question; without a service what the cell decides.
        card: the tests of the card.
        against: an earlier result to hold this one against.
        progress: told what is done.

    Raises:
        OakTagError: no lab is up.
        UsageError: an unknown name or service, or nothing of it can be sent.
    """
    lab = lab_of(model)
    held_model, broken, held = held_by(lab, model.files.root)
    moved_on = _moved_on(model, held)
    boxes = parse_asked(service, held_model.files.permissions.services) if service else ()
    if boxes:
        held_model = held_model.cut_along(boxes)
    trying = Trying(held_model, Beings(held_model))
    if card:
        sent = trying.card()
    elif source is None or destination is None:
        sent = trying.every()
    else:
        ends = [held_model.end(w, points=True, places=True) for w in (source, destination)]
        mask = held_model.atoms.mask(boxes) if boxes else held_model.atoms.full
        sent = trying.asked(ends[0], ends[1], mask, service or "any service")
    telling = Telling(held_model, lists=held.lists)
    outcomes, counted = _sent(lab, held_model, telling, sent, progress)
    if held_model.files.borne:
        accepting = Accepting(held_model)
        outcomes = [replace(o, accepted=_accepted(held_model, accepting, o)) for o in outcomes]
    rows = [o.row(held_model) for o in outcomes]
    told = _against(rows, against) if against is not None else None
    wrong = [o for o in outcomes if o.disagrees]
    touched = changed_by_hand(lab) if wrong else []
    packed = ""
    if wrong and not touched:
        place = own_folder(model.files.root)
        packed = str(pack(lab, held_model, telling, wrong, place, sent.guests))
    return LabProbed(
        moved_on=moved_on, lists=held.lists, broken=_broken(broken), probes=rows,
        summary=dict(Counter(o.verdict for o in outcomes)),
        not_probed=[{"for": why, "reason": reason} for why, reason in sent.omitted],
        counters=counted, touched=touched, packed=packed,
        **({} if told is None else {"against": told}),
    )  # fmt: skip


def _accepted(model: Model, accepting: Accepting, outcome: Outcome) -> bool:
    """Whether the workspace accepts what became of a probe: whether it accepts all rows between its
    two ends in which that becomes of its packet."""
    trial, kind = outcome.trial, outcome.wrong
    if kind not in ("passes though denied", "blocked though allowed", "the answer is lost"):
        return False
    atom = 1 << model.atoms.atom(trial.packet)
    rows = []
    for flow in model.state.flows([trial.source], [trial.destination]):
        leaks, breaks = (
            {f: mask & atom for f, mask in held.items() if mask & atom}
            for held in (flow.leaks, flow.breaks)
        )
        lost = tuple(r for r in flow.unanswered if r.holds(trial.packet))
        if kind == "passes though denied" and leaks:
            rows.append(replace(flow, leaks=leaks, breaks={}, unanswered=()))
        elif kind == "blocked though allowed" and breaks:
            rows.append(replace(flow, leaks={}, breaks=breaks, unanswered=()))
        elif kind == "the answer is lost" and lost:
            rows.append(replace(flow, leaks={}, breaks={}, unanswered=lost))
    return bool(rows) and all(map(accepting.of, rows))


def _sent(
    lab: Lab, model: Model, telling: Telling, sent: Trials, progress: Progress | None
) -> tuple[list[Outcome], list[Document]]:
    trials = sent.sent
    told = telling.tell_all(trials)
    if progress is not None:
        progress(f"{len(trials)} probes")
    baseline = {tuple(key): ok for key, ok in lab.kept("baseline") or ()}
    before = counts_of(lab.ask("counters")["cells"])
    expected = [t.fares == FARED[0] for t in told]
    with ThreadPoolExecutor(1) as pool:  # another process sends them meanwhile
        waiting = pool.submit(lab.ask, "probe", **sent.request(), meant=expected)
        agree = reach_agrees(model, telling, trials, told)
        seen = [fared(*one) for one in waiting.result()["fared"]]
    after = counts_of(lab.ask("counters")["cells"])
    seen = _tried_again(lab, sent, seen, [t.fares for t in told])
    outcomes = [
        Outcome(t, said, how, baseline.get(tuple(_key(t.probe))), reached=same)
        for t, said, how, same in zip(trials, told, seen, agree, strict=True)
    ]
    # What does not fare as told is followed: of what fares as told it is known where it, or its
    # answer, is lost.
    again = [
        n for n, o in enumerate(outcomes)
        if o.disagrees or (o.verdict not in QUIET and not o.told.at and not o.told.cut_off)
    ]  # fmt: skip
    if again:
        lost = lab.ask("follow", **sent.only(again).request())["lost"]
        for n, (request, answer) in zip(again, lost, strict=True):
            o = outcomes[n]
            outcomes[n] = replace(o, lost_at=request or answer)
    return outcomes, counters(model, telling, trials, before, after) if telling.lists else []


#: A machine under load loses probes: what does not fare as told is tried again, so many at once and
#: for so many seconds; at last alone, if they are few.
PACES, MOST_ALONE = ((16, 2.0), (1, 3.0)), 12


def _tried_again(
    lab: Lab, sent: Trials, seen: Sequence[Fared], told: Sequence[Fared]
) -> list[Fared]:
    """How probes fare, those that do not fare as told tried again with more time."""
    hows = list(seen)
    for at_once, seconds in PACES:
        odd = [n for n, how in enumerate(hows) if how != told[n]]
        if not odd or (at_once == 1 and len(odd) > MOST_ALONE):
            break
        probes = sent.only(odd).request()
        again = lab.ask("probe", **probes, meant=[True] * len(odd), pace=[at_once, seconds])
        for n, one in zip(odd, again["fared"], strict=True):
            hows[n] = fared(*one)
    return hows


#: Verdicts of which nobody asks where it was lost.
QUIET = frozenset({"as meant", "passes though denied", "no list yet"})


def _key(probe: Probe) -> list[str | int]:
    """What tells a probe in several runs."""
    ends = probe.source_address, probe.destination_address
    return [*ends, probe.protocol, probe.port, probe.source_port]


def _against(rows: list[Document], earlier: Mapping[str, Any]) -> dict[str, int]:
    """Tell of each probe how it fares against an earlier run."""
    before = {key_of(p): p["fares"] == FARED[0] for p in earlier.get("probes", ())}
    for row in rows:
        was, works = before.get(key_of(row)), row["fares"] == FARED[0]
        if was is None:
            row["then"] = "not tried"
        elif was == works:
            row["then"] = "as before" if works else "never worked"
        else:
            row["then"] = "works now" if works else "broken now"
    return dict(Counter(row["then"] for row in rows))

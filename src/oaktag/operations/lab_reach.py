"""What ``reach`` says of a lab's probes, beside what ``trace`` does.

Rules kept here (semantics, section 6): a packet that arrives though the matrix denies it is among
the leaks of its path, or is open for answers there; one that does not arrive though it is allowed
is among the breaks; one whose answer is lost on the way that a lab leads it has no answer on some
way back.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from oaktag.core.effects import Outcome
from oaktag.core.paths import MOST_PATHS, Path
from oaktag.core.placement import Host
from oaktag.core.population import Class
from oaktag.core.reach import Reach
from oaktag.operations.lab_probe import FARED, Telling, Told
from oaktag.operations.lab_trials import Trial
from oaktag.operations.model import Model

#: So many classes of sources are asked for together.
TOGETHER = 16


def reach_agrees(
    model: Model, telling: Telling, trials: Sequence[Trial], told: Sequence[Told]
) -> list[bool]:
    """Of each probe whether ``reach`` says the same of its packet on its path as ``trace``."""
    agree = [True] * len(trials)
    if not telling.lists:
        return agree
    hosts = dict.fromkeys(end for t in trials for end in (t.source, t.destination))
    class_of = {host: one for one in telling.known(hosts) for host in one.hosts}
    by_source: dict[int, list[int]] = {}
    for number, trial in enumerate(trials):
        by_source.setdefault(id(class_of[trial.source]), []).append(number)
    waiting = list(by_source.values())
    for start in range(0, len(waiting), TOGETHER):
        numbers = [n for some in waiting[start : start + TOGETHER] for n in some]
        said = dict(_said(model, [trials[n] for n in numbers], class_of))
        for n in numbers:
            trial = trials[n]
            path = telling.way(trial.source, trial.destination)
            ends = id(class_of[trial.source]), id(class_of[trial.destination])
            many = model.paths.count(trial.source.node, trial.destination.node) > MOST_PATHS
            if path is not None and not many:
                found = said.get((*ends, path))
                agree[n] = found is not None and _same(model, trial, told[n], found)
    return agree


def _said(
    model: Model, trials: Sequence[Trial], class_of: dict[Host, Class]
) -> Iterator[tuple[tuple[int, int, Path], Outcome]]:
    sources, destinations = (
        list({id(class_of[h]): class_of[h] for h in ends}.values())
        for ends in ((t.source for t in trials), (t.destination for t in trials))
    )
    for a, b, path, outcome, _ in Reach(model.state, sources, destinations).by_class():
        yield (id(a), id(b), path), outcome


def _same(model: Model, trial: Trial, told: Told, said: Outcome) -> bool:
    arrives = told.fares != FARED[2]
    wrong = said.breaks if trial.meant else said.leaks
    hit = bool(wrong >> model.atoms.atom(trial.packet) & 1)
    if hit != (arrives != trial.meant):
        return not trial.meant and arrives and said.open_for_answers
    if not trial.meant or told.fares != FARED[1] or told.shared:
        return True
    return any(region.holds(trial.packet) for region in said.unanswered)

"""What the points of many paths do with the packets of many pairs, on arrays.

Rules kept here are those of ``judging``, walked along trees of paths: which points are met, whether
a tag arrives in the frame, what all of them let pass together (a set of cuts, ``effects``), where a
row is enforced first, and what is amiss last. The way back of answers is every least-cost path
back, less the points that know the flow.

Most pairs of a large network meet nobody who knows them. What points do with packets toward a
destination that none of them knows is walked once down the tree (``down``); only where a table on
the path knows the destination is the path walked up from there (``up``).
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.effects import Effects
from oaktag.core.judging_many import Points, View
from oaktag.core.pathtree import PathTrees, Tree
from oaktag.core.ranges import distinct, spread

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]
#: Results, the weakest first.
UNENFORCED, OBSERVED, ENFORCED = 0, 1, 2
#: A reason is node × 16 + a place in ``WHY``; or none; or no point at all.
NONE, NO_POINT = -1, -2
REASONS = 16


class Done(NamedTuple):
    """What is done to pairs on paths: arrays of shape [n].

    ``out`` is the set of cuts; ``result`` as above; ``hop`` the place on the path where it is
    enforced or observed first; ``reason`` the last one, of an enforced row what is amiss last.
    """

    out: Ints
    result: Ints
    hop: Ints
    reason: Ints

    def at(self, chosen: Any) -> Done:
        """Some of them."""
        return Done(*(column[chosen] for column in self))


class Walks:
    """Walks between two sides.

    Args:
        points: all points that count.
        effects: numbers sets of cuts.
        trees: least-cost paths.
        view: by which tables points go.
    """

    def __init__(self, points: Points, effects: Effects, trees: PathTrees, view: View) -> None:
        self.points = points
        self.effects = effects
        self.trees = trees
        self.view = view
        self.one, self.two = points.sides
        self._base: dict[tuple[int, int], Ints] = {}
        p = points
        words = self.two.bits.shape[1]
        bits = np.zeros((len(trees.names), words * 64), dtype=np.bool_)
        bits[:, -1] = True
        #: Nodes with a point that must be asked one by one.
        self.partial = np.zeros(len(trees.names), dtype=np.bool_)
        if len(p.every):
            bits[p.node, view.target_table] = True
            self.partial[p.node[p.partial]] = True
        self._node_bits = np.packbits(bits, axis=1, bitorder="little").view(np.uint64)
        self.stateless = bool((p.acts & (p.state < 0)).any())

    # -- out -------------------------------------------------------------------------------------

    def up(self, tree: Tree, entries: Ints, es: Ints, ed: Ints) -> Done:
        """Pairs of elements on paths, each walked from its end up to its source."""
        points, count = self.points, len(entries)
        out = np.zeros(count, dtype=np.int64)
        reason = np.full(count, NO_POINT, dtype=np.int64)
        amiss = np.full(count, NONE, dtype=np.int64)
        hops = np.full((2, count), NONE, dtype=np.int64)
        place, at = np.arange(count), entries
        while len(place):
            nodes, parent = tree.node[at], tree.parent[at]
            arrives = tree.alive[at] & (parent >= 0)
            for nth in range(points.most):
                has = points.count[nodes] > nth
                if not has.any():
                    break
                every = bool(has.all())
                here, entry = (place, at) if every else (place[has], at[has])
                node = nodes if every else nodes[has]
                p = points.first[node] + (points.count[node] - 1 - nth)
                seen = points.judged(
                    self.view, p, 0, es[here], ed[here], arrives if every else arrives[has]
                )
                out[here] = self.effects.join(out[here], seen.cut)
                code = node * REASONS + seen.why
                last = reason[here]
                # A point that enforces the true cell is no reason, but there is a point.
                last = np.where(last == NO_POINT, NONE, last)
                reason[here] = np.where((last < 0) & (seen.why > 0), code, last)
                last = amiss[here]
                amiss[here] = np.where((last < 0) & (seen.why > 0) & seen.enforces, code, last)
                right = seen.judges & (seen.why == 0)
                depth = tree.depth[entry]
                for row, acts in ((0, seen.enforces), (1, ~seen.enforces)):
                    hops[row, here] = np.where(right & acts, depth, hops[row, here])
            left = parent >= 0
            place, at = place[left], parent[left]
        return _done(out, hops, reason, amiss)

    def down(self, tree: Tree, es: Ints, ed: int) -> Done:
        """All paths of a tree from one element at each root, toward a destination that no table
        knows; shape [entries]."""
        points, count = self.points, len(tree.node)
        told = self._everywhere(es, ed)
        size = len(points.every)
        # What paths come to, a row each: set of cuts, reason, amiss, where enforced and observed.
        so = np.empty((count, 5), dtype=np.int64)
        so[: tree.levels[1]] = (0, NO_POINT, NONE, NONE, NONE)
        for low, high in zip(tree.levels[:-1], tree.levels[1:], strict=True):
            mine = slice(int(low), int(high))
            node, parent = tree.node[mine], tree.parent[mine]
            above = so.take(parent, axis=0) if low else so[mine]
            here = np.ascontiguousarray(above.T)
            framed = tree.alive[mine] & (parent >= 0)
            for nth in range(points.most):
                has = np.flatnonzero(points.count[node] > nth)
                at = slice(None) if len(has) == len(node) else has
                p = points.first.take(node[at]) + nth
                place = (tree.root[mine][at] * size + p) * 2 + framed[at]
                seen = told.take(place, mode="clip")
                here[:, at] = self._past(here[:, at], node[at], seen, int(tree.depth[low]))
            so[mine] = here.T
        return _done(so[:, 0], so[:, 3:].T, so[:, 1], so[:, 2])

    def _everywhere(self, es: Ints, ed: int) -> Ints:
        """What every point does with packets of some elements toward somebody whom no table knows,
        without and with a frame's tag, in one number each (``_packed``); shape [elements × points
        × 2]."""
        points, one = self.points, self.one
        size = len(points.every)
        found = np.empty((len(es), size, 2), dtype=np.int64)
        nobody = np.where(one.untagged[es], one.stranger, one.nobody)
        plain = (self.view.frames[0][es] == 0) & ~one.own[es] & ~one.unjudged[es] & (es != nobody)
        # Nearly all points know nobody of an element, and do what they do with anybody.
        asked = (one.seen[es][:, self.view.source_table] != 0) | points.choosy | ~plain[:, None]
        for who in np.unique(nobody[plain]).tolist():
            key = who, ed
            if key not in self._base:
                every = np.arange(size)
                self._base[key] = self._packed(every, np.full(size, who), ed)
            found[plain & (nobody == who)] = self._base[key]
        row, p = np.nonzero(asked)
        found[row, p] = self._packed(p, es[row], ed)
        return found.ravel()

    def _packed(self, p: Ints, es: Ints, ed: int) -> Ints:
        """The set of cuts × 64 + the place in ``WHY`` × 4 + whether it enforces × 2 + judges; of
        points and elements, without and with a frame's tag; shape [n, 2]."""
        found = np.zeros((len(p), 2), dtype=np.int64)
        twos = np.full(len(p), ed)
        for arrives in (0, 1) if len(p) else ():
            seen = self.points.judged(self.view, p, 0, es, twos, bool(arrives), crossing=True)
            found[:, arrives] = seen.cut * 64 + seen.why * 4 + seen.enforces * 2 + seen.judges
        return found

    def _past(self, so: Ints, node: Ints, seen: Ints, depth: int) -> Ints:
        """What paths come to behind a point more on each."""
        why, acts = seen >> 2 & REASONS - 1, (seen & 2) > 0
        wrong = why > 0
        code = node * REASONS + why
        reason = np.where(wrong, code, np.maximum(so[1], NONE))
        right = ((seen & 1) > 0) & ~wrong
        first = [
            np.where(right & does & (column < 0), depth, column)
            for column, does in ((so[3], acts), (so[4], ~acts))
        ]
        out = self.effects.join(so[0], seen >> 6)
        return np.stack([out, reason, np.where(wrong & acts, code, so[2]), *first])

    def met(self, tree: Tree) -> tuple[NDArray[np.uint64], Flags]:
        """Which tables the points of each path go by, as bits; and whether some point there judges
        only toward some segments."""
        bits = self._node_bits.take(tree.node, axis=0)
        some = self.partial[tree.node]
        for low, high in zip(tree.levels[1:-1], tree.levels[2:], strict=True):
            mine = slice(low, high)
            bits[mine] |= bits.take(tree.parent[mine], axis=0)
            some[mine] |= some[tree.parent[mine]]
        return bits, some

    # -- back ------------------------------------------------------------------------------------

    def ways_back(
        self, tree: Tree, entries: Ints, *, inward: bool = True
    ) -> tuple[Ints, Ints, Ints, Flags]:
        """For each of some distinct paths the points that judge its answers, on any path back.

        Args:
            tree: paths out, or (not ``inward``) back.
            entries: which of them.
            inward: the answers go from the paths' ends to their sources.

        Returns:
            for each path where its points begin, and how many there are; the points; and whether a
            frame of the answering end arrives at each.
        """
        points, nodes = self.points, len(self.trees.names)
        end = tree.root * nodes + tree.node
        ends = distinct(end[entries])
        every = np.flatnonzero(np.isin(end, ends))
        on, met = self.expanded(tree, every, inward=inward)
        size = len(points.every)
        # What is met on the way back to each end: (end, point, does a frame arrive).
        place = np.searchsorted(ends, end[every])
        acting = points.acts[met[:, 1]]
        key = (place[met[acting, 0]] * size + met[acting, 1]) * 2 + met[acting, 2]
        met_end, rest = np.divmod(distinct(key), 2 * size)
        low = np.searchsorted(met_end, np.arange(len(ends)))
        high = np.searchsorted(met_end, np.arange(len(ends)), side="right")
        mine = np.searchsorted(ends, end[entries])
        number = np.repeat(np.arange(len(entries)), high[mine] - low[mine])
        which = rest[spread(low[mine], high[mine])]
        point = which // 2
        # Less those that know the flow, for the packet crossed them or one that shares its state.
        states = int(points.state.max(initial=0)) + 1
        crossed = distinct(on[:, 0] * states + on[:, 1])
        told = np.searchsorted(every, entries)[number] * states + points.state[point]
        knows = (points.state[point] >= 0) & np.isin(told, crossed)
        number, which = number[~knows], which[~knows]
        count = np.bincount(number, minlength=len(entries))
        first = np.concatenate([[0], np.cumsum(count)[:-1]]).astype(np.int64)
        return first, count, which // 2, which % 2 > 0

    def expanded(self, tree: Tree, every: Ints, *, inward: bool) -> tuple[Ints, Ints]:
        """Of paths, by their place: the states of flows that they cross; and the points, with
        whether a frame of their end (or of their source) arrives there."""
        points, trees = self.points, self.trees
        on: list[Ints] = []
        met: list[Ints] = []
        place, at = np.arange(len(every)), every
        alive = trees.marks[tree.node[at]]
        first = True
        while len(place):
            node, parent = tree.node[at], tree.parent[at]
            arrives = self._arrives(tree, at, alive, first=first, inward=inward)
            for nth in range(points.most):
                has = np.flatnonzero(points.count[node] > nth)
                p = points.first[node[has]] + nth
                kept = p != self.view.lost
                has, p = has[kept], p[kept]
                met.append(np.stack([place[has], p, arrives[has]], axis=1).astype(np.int64))
                knowing = points.state[p] >= 0
                on.append(np.stack([place[has][knowing], points.state[p][knowing]], axis=1))
            alive, left = self._onward(tree, at, alive, first=first)
            place, at, first = place[left], parent[left], False
        none = np.empty((0, 3), dtype=np.int64)
        return np.concatenate(on or [none[:, :2]]), np.concatenate(met or [none])

    @staticmethod
    def _arrives(tree: Tree, at: Ints, alive: Flags, *, first: bool, inward: bool) -> Flags:
        """Where frames of the paths' ends (inward), or of their sources, arrive."""
        if not inward:
            return tree.alive[at] & (tree.parent[at] >= 0)
        return np.zeros(len(at), dtype=np.bool_) if first else alive

    def _onward(self, tree: Tree, at: Ints, alive: Flags, *, first: bool) -> tuple[Flags, Flags]:
        """Where frames of the paths' ends arrive one node nearer to the sources, of those of which
        there is such a node; and which these are."""
        trees, left = self.trees, tree.parent[at] >= 0
        onward = alive if first else alive & trees.carries[tree.node[at]]
        return onward[left] & trees.link_carries[tree.link[at[left]]], left

    def along(self, tree: Tree, entries: Ints, near: Ints, far: Ints, *, inward: bool) -> Ints:
        """The sets of cuts on paths between elements at their sources and at their ends, for
        packets that go to the sources (inward), or to the ends; shape [n]."""
        points, sets = self.points, np.zeros(len(entries), dtype=np.int64)
        place, at = np.arange(len(entries)), entries
        alive, first = self.trees.marks[tree.node[at]], True
        while len(place):
            node = tree.node[at]
            arrives = self._arrives(tree, at, alive, first=first, inward=inward)
            for nth in range(points.most):
                has = np.flatnonzero(points.count[node] > nth)
                here, p = place[has], points.first[node[has]] + nth
                es, ed = (far[here], near[here]) if inward else (near[here], far[here])
                seen = points.judged(self.view, p, int(inward), es, ed, arrives[has])
                sets[here] = self.effects.join(sets[here], seen.cut)
            alive, left = self._onward(tree, at, alive, first=first)
            place, at, first = place[left], tree.parent[at[left]], False
        return sets

    def answered(self, tree: Tree) -> Flags:
        """Of which paths an answer may meet a point that does not know its flow."""
        nodes = len(self.trees.names)
        end = tree.root * nodes + tree.node
        several: Flags = np.bincount(end)[end] > 1
        if self.stateless:
            strange = np.zeros(nodes, dtype=np.bool_)
            strange[self.points.node[self.points.acts & (self.points.state < 0)]] = True
            some = strange[tree.node]
            for low, high in zip(tree.levels[1:-1], tree.levels[2:], strict=True):
                some[low:high] |= some[tree.parent[low:high]]
            several = several | some
        return several

    def back(
        self, tree: Tree, entries: Ints, near: Ints, far: Ints, *, inward: bool = True
    ) -> Ints:
        """The sets of cuts that answers meet, for pairs of elements on paths; shape [n]. Inward
        they go to the paths' sources."""
        sets = np.zeros(len(entries), dtype=np.int64)
        if not len(self.points.every) or not len(entries):
            return sets
        distinct, of = np.unique(entries, return_inverse=True)
        first, count, point, arrives = self.ways_back(tree, distinct, inward=inward)
        count, first = count[of], first[of]
        for nth in range(int(count.max(initial=0))):
            has = np.flatnonzero(count > nth)
            place = first[has] + nth
            es, ed = (far[has], near[has]) if inward else (near[has], far[has])
            seen = self.points.judged(self.view, point[place], int(inward), es, ed, arrives[place])
            sets[has] = self.effects.join(sets[has], seen.cut)
        return sets


def _done(out: Ints, hops: Ints, reason: Ints, amiss: Ints) -> Done:
    result = np.where(hops[0] >= 0, ENFORCED, np.where(hops[1] >= 0, OBSERVED, UNENFORCED))
    hop = np.where(hops[0] >= 0, hops[0], hops[1])
    return Done(out, result, hop, np.where(result > UNENFORCED, amiss, reason))

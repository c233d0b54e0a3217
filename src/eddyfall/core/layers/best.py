"""Blended drawables that no order of whole things draws right: rings of "in front of", and the least that the best order leaves wrong."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from heapq import heappop, heappush
from itertools import combinations, permutations

import numpy as np
from scipy.optimize import Bounds, LinearConstraint, milp
from scipy.sparse import csr_array
from scipy.sparse.csgraph import connected_components

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.layers.capture import Layers
from eddyfall.core.layers.kernels import fold, ordered
from eddyfall.core.layers.pairs import LEAST_PIXELS, apart
from eddyfall.core.passes.blended import Fragments

MOST_TRIED = 7  # members whose orders are all drawn; more are chosen by a table over subsets, then drawn
MOST_MEMBERS = 16  # of a table; more are solved as an integer program
MOST_SOLVED = 32  # of a program; of more the order as drawn stands alone
BRANCHES, LEAST_GAP = 500, 1e-4  # nodes of a program that are branched at; a share of the least that counts as the least


@dataclass(frozen=True)
class Knot:
    """Drawables (k,) of which each lies in front of another all around; crossing: pairs of them that are each in front of the other
    somewhere. order: the best of whole drawables, first drawn first; left_px, left_nit_px: what it leaves visibly wrong, where (pixels,);
    tried: which orders it is the best of."""

    members: tuple[int, ...]
    crossing: tuple[tuple[int, int], ...]
    order: tuple[int, ...]
    left_px: int
    left_nit_px: float
    where: np.ndarray
    tried: str


def knots(layers: Layers) -> list[Knot]:
    """Every strongly connected part of "in front of" (on LEAST_PIXELS at the least) with more than one member, that the best order leaves
    visibly wrong."""
    over = in_front(layers)
    _, part_of = connected_components(csr_array((over >= LEAST_PIXELS) & ~np.eye(len(over), dtype=bool)), connection="strong")
    found = []
    for part in np.flatnonzero(np.bincount(part_of) > 1):
        members = tuple(int(d) for d in np.flatnonzero(part_of == part))
        knot = _knot(layers, members, over)
        if knot.left_px >= LEAST_PIXELS:
            found.append(knot)
    return sorted(found, key=lambda k: -k.left_px)


def fixed_order(poses: Sequence[Layers], drawable: int) -> np.ndarray | None:
    """(t,) numbers of a drawable's triangles in one order that draws what lies farther first in all of these poses, as near to the file's
    as may be; None if there is none: some lie in a ring, or one before another here and behind it there."""
    of = poses[0].frame.geometry.drawables[drawable] if poses else None
    if of is None:
        return None
    total = of.last - of.first
    over = np.zeros((total, total), np.int64)
    for layers in poses:
        near, far = _neighbours(layers)
        s = layers.shown
        mine = (s.drawable[near] == drawable) & (s.drawable[far] == drawable)
        np.add.at(over, (s.triangle[near[mine]] - of.first, s.triangle[far[mine]] - of.first), 1)
    before = csr_array((over >= LEAST_PIXELS).T & ~np.eye(total, dtype=bool))
    if connected_components(before, connection="strong")[0] < total:
        return None
    waits = np.bincount(before.indices, minlength=total)
    free, order = [int(t) for t in np.flatnonzero(waits == 0)], []
    while free:
        order.append(heappop(free))
        for later in before.indices[before.indptr[order[-1]] : before.indptr[order[-1] + 1]]:
            waits[later] -= 1
            if not waits[later]:
                heappush(free, int(later))
    return np.array(order)


def in_front(layers: Layers) -> np.ndarray:
    """(drawables, drawables) pixels on which the first lies right in front of the second, neighbours among the pixel's layers, and
    their order matters."""
    total = len(layers.frame.geometry.drawables)
    counts = np.zeros((total, total), np.int64)
    near, far = _neighbours(layers)
    np.add.at(counts, (layers.shown.drawable[near], layers.shown.drawable[far]), 1)
    return counts


def _neighbours(layers: Layers) -> tuple[np.ndarray, np.ndarray]:
    """((n,) fragments, (n,) the one that lies right behind each in its pixel), where their order matters."""
    s, order = layers.shown, layers.truly_ordered
    inner = np.ones(max(len(order) - 1, 0), bool)
    inner[s.starts[1:-1][(s.starts[1:-1] > 0) & (s.starts[1:-1] < len(order))] - 1] = False
    far, near = order[:-1][inner], order[1:][inner]
    lays = s.p + s.q[:, None] * layers.opaque[layers.pixel]
    matters = np.abs(lays[near] * (1 - s.k[far]) - lays[far] * (1 - s.k[near])).max(axis=1) > 1e-6
    return near[matters], far[matters]


def _knot(layers: Layers, members: tuple[int, ...], over: np.ndarray) -> Knot:
    part, opaque, true = _of(layers, members)
    n, as_drawn = len(members), tuple(int(d) for d in layers.order if d in members)
    orders: Iterable[tuple[int, ...]]
    if n <= MOST_TRIED:
        orders, tried = permutations(members), "all were drawn"
    elif n <= MOST_MEMBERS:
        orders, tried = (as_drawn, _by_table(_pair_costs(part, opaque, members), members)), "by pairs, and as drawn"
    elif n <= MOST_SOLVED:
        solved, gap = _by_program(_pair_costs(part, opaque, members), members)
        proven = "the least there is" if gap <= LEAST_GAP else f"at most {gap:.1%} of it above the least"
        orders, tried = (as_drawn, solved), f"by pairs ({proven}), and as drawn"
        if not np.isfinite(gap):
            tried = "as drawn: no better one was found"
    else:
        orders, tried = (as_drawn,), "as drawn: too many to look for a better one"
    best, least, drawn = members, np.inf, true
    for order in orders:
        turn = np.zeros(int(max(members)) + 1)
        turn[list(order)] = np.arange(n)
        picture = _folded(part, turn[part.drawable], opaque)
        wrong = float(np.abs(picture - true).mean(axis=1).sum())
        if wrong < least:
            best, least, drawn = order, wrong, picture
    visible = apart(layers.frame, drawn, true) > VISIBLE_DIFFERENCE
    crossing = tuple(
        (a, b) for i, a in enumerate(members) for b in members[i + 1 :] if min(over[a, b], over[b, a]) >= LEAST_PIXELS
    )
    where = _pixels(layers, members)[visible]
    return Knot(members, crossing, tuple(int(d) for d in best), int(visible.sum()), least, where, tried)


def _pixels(layers: Layers, members: tuple[int, ...]) -> np.ndarray:
    """(m,) pixels with at least two layers of the members."""
    mine = np.isin(layers.shown.drawable, members)
    return np.flatnonzero(np.bincount(layers.pixel[mine], minlength=len(layers.shown.starts) - 1) > 1)


def _of(layers: Layers, members: tuple[int, ...]) -> tuple[Fragments, np.ndarray, np.ndarray]:
    """(the members' fragments of these pixels, (m, 3) what lies beneath, (m, 3) nits in their true order): other layers are left out."""
    s, pixels = layers.shown, _pixels(layers, members)
    mine = np.isin(s.drawable, members) & np.isin(layers.pixel, pixels)
    starts = np.zeros(len(pixels) + 1, np.int64)
    np.cumsum(np.bincount(np.searchsorted(pixels, layers.pixel[mine]), minlength=len(pixels)), out=starts[1:])
    part, opaque = Fragments(starts, *(column[mine] for column in s[1:])), layers.opaque[pixels]
    return part, opaque, _folded(part, -part.far, opaque)


def _folded(part: Fragments, key: np.ndarray, opaque: np.ndarray) -> np.ndarray:
    out = np.empty_like(opaque)
    fold(part.starts, ordered(part.starts, len(part.far), key), part.k, part.p, part.q, opaque, out)
    return out


def _pair_costs(part: Fragments, opaque: np.ndarray, members: tuple[int, ...]) -> np.ndarray:
    """(n, n) nit px, mean of the channels: what it costs to draw all of the first before all of the second, with all else as it lies."""
    cost = np.zeros((len(members), len(members)))
    true = _folded(part, -part.far, opaque)
    for i, a in enumerate(members):
        for j, b in enumerate(members):
            if i != j:  # all of a before all of b: a is drawn just before the first of b
                key = -part.far.copy()
                late = (part.drawable == a) & (key > _first(part, key, b))
                key[late] = _first(part, key, b)[late] - 1e-6
                cost[i, j] = np.abs(_folded(part, key, opaque) - true).mean(axis=1).sum()
    return cost


def _by_program(cost: np.ndarray, members: tuple[int, ...]) -> tuple[tuple[int, ...], float]:
    """(the order of least cost by pairs, how far above the least it may be at the most, as a share of it; infinity: none was found): a
    linear ordering, one unknown for each two (1: the first before the second), no three of them in a ring (Grötschel, Jünger and Reinelt
    1984, from memory)."""
    n = len(members)
    first, second = np.triu_indices(n, 1)
    number = np.full((n, n), -1)
    number[first, second] = np.arange(len(first))
    a, b, c = np.array(list(combinations(range(n), 3)), int).reshape(-1, 3).T
    rows = np.repeat(np.arange(len(a)), 3)
    columns = np.stack([number[a, b], number[b, c], number[a, c]], axis=1).ravel()
    no_ring = csr_array((np.tile([1.0, 1.0, -1.0], len(a)), (rows, columns)), shape=(len(a), len(first)))
    found = milp(
        cost[first, second] - cost[second, first], integrality=np.ones(len(first)), bounds=Bounds(0, 1),
        constraints=LinearConstraint(no_ring, 0, 1), options={"node_limit": BRANCHES},
    )  # fmt: skip
    if found.x is None:
        return members, np.inf
    before = np.zeros((n, n))
    before[first, second] = np.round(found.x)
    before[second, first] = 1 - before[first, second]
    total, least = (float(v) + float(cost[second, first].sum()) for v in (found.fun, found.mip_dual_bound))
    return tuple(members[k] for k in np.argsort(-before.sum(axis=1))), max(total - least, 0.0) / max(total, LEAST_GAP)


def _by_table(cost: np.ndarray, members: tuple[int, ...]) -> tuple[int, ...]:
    """The order of least cost by pairs: the best order of each subset is one member drawn after the best order of the rest (Held and Karp
    1962, from memory)."""
    n = len(members)
    best: list[tuple[float, tuple[int, ...]]] = [(np.inf, ())] * 2**n
    best[0] = (0.0, ())
    for subset in range(1, 2**n):
        for last in (k for k in range(n) if subset >> k & 1):
            rest = subset & ~(1 << last)
            total = best[rest][0] + sum(cost[k, last] for k in range(n) if rest >> k & 1)
            if total < best[subset][0]:
                best[subset] = (total, (*best[rest][1], last))
    return tuple(members[k] for k in best[-1][1])


def _first(part: Fragments, key: np.ndarray, drawable: int) -> np.ndarray:
    """(n,) of each fragment's pixel, the least key of a drawable there; infinity where it has none."""
    pixel = np.repeat(np.arange(len(part.starts) - 1), np.diff(part.starts))
    least = np.full(len(part.starts) - 1, np.inf)
    mine = part.drawable == drawable
    np.minimum.at(least, pixel[mine], key[mine])
    return np.asarray(least[pixel])

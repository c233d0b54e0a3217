"""Blended drawables that no order of whole things draws right: rings of "in front of", and the least that the best order leaves wrong."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from itertools import permutations

import numpy as np
from scipy.sparse import csr_array
from scipy.sparse.csgraph import connected_components

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.layers.capture import Layers
from eddyfall.core.layers.kernels import fold, ordered
from eddyfall.core.layers.pairs import LEAST_PIXELS, apart
from eddyfall.core.passes.blended import Fragments

MOST_TRIED = 7  # members whose orders are all drawn; more are chosen by a table over subsets, then drawn
MOST_MEMBERS = 16  # of a table; of more the order as drawn stands alone


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


def in_front(layers: Layers) -> np.ndarray:
    """(drawables, drawables) pixels on which the first lies right in front of the second, neighbours among the pixel's layers, and
    their order matters."""
    s, order = layers.shown, layers.truly_ordered
    total = len(layers.frame.geometry.drawables)
    inner = np.ones(max(len(order) - 1, 0), bool)
    inner[s.starts[1:-1][(s.starts[1:-1] > 0) & (s.starts[1:-1] < len(order))] - 1] = False
    far, near = order[:-1][inner], order[1:][inner]
    lays = s.p + s.q[:, None] * layers.opaque[layers.pixel]
    matters = np.abs(lays[near] * (1 - s.k[far]) - lays[far] * (1 - s.k[near])).max(axis=1) > 1e-6
    counts = np.zeros((total, total), np.int64)
    np.add.at(counts, (s.drawable[near][matters], s.drawable[far][matters]), 1)
    return counts


def _knot(layers: Layers, members: tuple[int, ...], over: np.ndarray) -> Knot:
    part, opaque, true = _of(layers, members)
    n, as_drawn = len(members), tuple(int(d) for d in layers.order if d in members)
    orders: Iterable[tuple[int, ...]]
    if n <= MOST_TRIED:
        orders, tried = permutations(members), "all were drawn"
    elif n <= MOST_MEMBERS:
        orders, tried = (as_drawn, _by_table(part, opaque, members)), "by pairs, and as drawn"
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


def _by_table(part: Fragments, opaque: np.ndarray, members: tuple[int, ...]) -> tuple[int, ...]:
    """The order of least cost by pairs: for each two the error of drawing them the one way with all else as it lies; the best order of each
    subset is one member drawn after the best order of the rest (Held and Karp 1962, from memory)."""
    n, cost = len(members), np.zeros((len(members), len(members)))
    true = _folded(part, -part.far, opaque)
    for i, a in enumerate(members):
        for j, b in enumerate(members):
            if i != j:  # all of a before all of b: a is drawn just before the first of b
                key = -part.far.copy()
                late = (part.drawable == a) & (key > _first(part, key, b))
                key[late] = _first(part, key, b)[late] - 1e-6
                cost[i, j] = np.abs(_folded(part, key, opaque) - true).mean(axis=1).sum()
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

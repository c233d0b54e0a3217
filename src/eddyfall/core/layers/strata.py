"""The blended layers of one pixel: as they are drawn and as they lie, what each keeps and lays, and what is wrong with its place."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.layers.capture import Layers
from eddyfall.core.passes import fog
from eddyfall.core.passes.blended import HIDDEN as UNSEEN
from eddyfall.core.passes.blended import SHOWN, WRITTEN_OVER, Fragments
from eddyfall.core.shade.blend import KIND_NAMES, KINDS
from eddyfall.core.shade.orderless import average_plain

IN_PLACE, HIDDEN, COVERED, EARLY, LATE, OWN_MESH, CUTS_NOTHING, AVERAGED, LEFT_OUT = (
    "in place", "hidden by what is opaque", "hidden by the depth that another wrote", "too early",
    "too late", "out of turn among its own faces", "cuts nothing",
    "averaged with others", "left out: too deep",
)  # fmt: skip


@dataclass(frozen=True)
class Stratum:
    """One fragment of a pixel: drawable, blend kind, m from the eye; keep, lay (3,): f -> keep f + lay; share (3,) nits of the final
    picture that come from it as drawn, true_share (3,) as it lies. place: what is wrong with its turn; against: which drawables that is
    said of."""

    drawable: str
    kind: str
    far_m: float
    keep: tuple[float, ...]
    lay: tuple[float, ...]
    share: tuple[float, ...]
    true_share: tuple[float, ...]
    place: str
    against: tuple[str, ...]


@dataclass(frozen=True)
class Strata:
    """A pixel: strata in the order they are drawn, `true` their numbers in the order they lie, the farthest first (those that are
    hidden are in neither); nits (3,) of what is opaque, as drawn, as it ought to be. solid_m: m from the eye to what is solid; copied_m: to
    what the depth copy says, which fog, and whatever else takes the depth of the frame, takes for every layer of the pixel (infinite: for
    none)."""

    pixel: tuple[int, int]
    strata: tuple[Stratum, ...]
    true: tuple[int, ...]
    opaque: tuple[float, ...]
    drawn: tuple[float, ...]
    due: tuple[float, ...]
    solid_m: float
    copied_m: float


def strata_at(layers: Layers, x: int, y: int) -> Strata:
    """The layers at a pixel of the frame. RequestError if it lies outside."""
    left, top = layers.frame.pixels.origin
    height, width = layers.frame.pixels.shape
    if not (0 <= x - left < width and 0 <= y - top < height):
        raise RequestError(f"pixel {x},{y} lies outside of the {width} x {height} frame")
    i = (y - top) * width + x - left
    s, every = layers.shown, layers.every
    mine = np.arange(s.starts[i], s.starts[i + 1])
    lies = layers.truly_ordered[s.starts[i] : s.starts[i + 1]]
    opaque = layers.opaque[i]
    lays = s.p + s.q[:, None] * opaque
    if layers.orderless:
        mine = lies
    deep = len(mine) - layers.by.in_order if layers.orderless else 0  # so many of the farthest are not drawn in order
    shares, true_shares = shares_of(mine, s.k, lays), shares_of(lies, s.k, lays)
    if deep > 0:
        shares |= _of_the_rest(layers, mine[:deep], mine[deep:])
    every_lies = _with_covered(every, i) if not layers.orderless else []
    of_shown = np.flatnonzero(every.open == SHOWN)  # which of all each of those that are shown is
    if every_lies:
        due_shares = shares_of(np.array(every_lies), every.k, every.p + every.q[:, None] * opaque)
        true_shares = {int(n): due_shares[int(of_shown[n])] for n in lies}
    turn_due = {int(n): t for t, n in enumerate(lies)}
    names = [d.name for d in layers.frame.geometry.drawables]
    strata = []
    for number, n in enumerate(mine):
        late = [m for m in mine[:number] if turn_due[int(m)] > turn_due[int(n)]]
        early = [m for m in mine[number + 1 :] if turn_due[int(m)] < turn_due[int(n)]]
        place, against = _place(s.drawable, int(n), early, late)
        if place == IN_PLACE and s.q[n] > 0 and number == 0:
            place = CUTS_NOTHING
        if number < deep:
            place, against = (AVERAGED if layers.by.averages else LEFT_OUT), []
        strata.append(
            Stratum(
                names[s.drawable[n]], KIND_NAMES[int(layers.frame.stage.state.blend[s.drawable[n]])], float(s.far[n]), _three(s.k[n]),
                _three(lays[n]), _three(shares[int(n)]), _three(true_shares[int(n)]), place,
                tuple(dict.fromkeys(names[s.drawable[m]] for m in against)),
            )
        )  # fmt: skip
    none, number_of = (0.0, 0.0, 0.0), {int(n): k for k, n in enumerate(mine)}
    of_every = {int(of_shown[n]): k for n, k in number_of.items()}
    for n in range(every.starts[i], every.starts[i + 1]):
        if every.open[n] == SHOWN:
            continue
        d = every.drawable[n]
        kind, far = KIND_NAMES[int(layers.frame.stage.state.blend[d])], float(every.far[n])
        if n in every_lies:
            of_every[n] = len(strata)
            before = [
                m
                for m in every_lies
                if every.far[m] < every.far[n] and layers.writes[every.drawable[m]] and every.open[m] == SHOWN
            ]
            share = due_shares[n]
            lay = _three(every.p[n] + every.q[n] * opaque)
            writers = tuple(dict.fromkeys(names[every.drawable[m]] for m in before))
            strata.append(Stratum(names[d], kind, far, _three(every.k[n]), lay, none, _three(share), COVERED, writers))
        else:
            strata.append(Stratum(names[d], kind, far, (1.0,) * 3, none, none, none, HIDDEN, ()))
    drawn, due = (picture.reshape(-1, 3)[i] for picture in (layers.drawn, layers.due))
    true = tuple(of_every[n] for n in every_lies) if every_lies else tuple(number_of[int(n)] for n in lies)
    return Strata(
        (x, y), tuple(strata), true, _three(opaque), _three(drawn), _three(due), *_depths(layers, x - left, y - top)
    )  # fmt: skip


def _depths(layers: Layers, column: int, row: int) -> tuple[float, float]:
    """(m from the eye to what is solid, to what the depth copy says) at a pixel."""
    frame = layers.frame
    inputs = {name: frame.buffers[name] for name in fog.PASS.reads}
    copied = fog.copied_distance(inputs, fog.section(frame.stage))[row, column]
    solid = frame.view_depth[row, column] * layers.frame_lengths.reshape(frame.pixels.shape)[row, column]
    return float(solid if frame.drawable[row, column] >= 0 else np.inf), float(copied)


def _with_covered(every: Fragments, pixel: int) -> list[int]:
    """Fragments of a pixel that nothing solid hides, the farthest first, if the depth of something blended hides any of them."""
    mine = range(every.starts[pixel], every.starts[pixel + 1])
    if not any(every.open[n] == WRITTEN_OVER for n in mine):
        return []
    return sorted((n for n in mine if every.open[n] != UNSEEN), key=lambda n: -float(every.far[n]))


def _of_the_rest(layers: Layers, rest: np.ndarray, over: np.ndarray) -> dict[int, np.ndarray]:
    """By fragment of those that no order is kept of, (3,) nits of the final picture that come from it: its part of the average, as those
    drawn over it leave it; nothing, if the rest is left out."""
    s = layers.shown
    left = s.k[over].prod(axis=0)
    if not layers.by.averages:
        return {int(n): np.zeros(3) for n in rest}
    dark = layers.by.blend[s.drawable[rest]] == KINDS["multiply"]
    whole, _ = average_plain(s.k[rest], s.p[rest], s.q[rest], dark)
    laid = np.where((s.q[rest] > 0)[:, None], 0.0, s.p[rest])
    total = np.maximum(laid.sum(axis=0), 1e-12)
    return {int(n): laid[m] / total * whole * left for m, n in enumerate(rest)}


def _place(drawable: np.ndarray, n: int, early: list[np.intp], late: list[np.intp]) -> tuple[str, list[np.intp]]:
    others = [m for m in (*early, *late) if drawable[m] != drawable[n]]
    if not early and not late:
        return IN_PLACE, []
    if not others:
        return OWN_MESH, [*early, *late]
    return (EARLY, early) if any(drawable[m] != drawable[n] for m in early) else (LATE, late)


def shares_of(order: np.ndarray, k: np.ndarray, lays: np.ndarray) -> dict[int, np.ndarray]:
    """By fragment, what is left of its lay once all that come later have been laid."""
    left, found = np.ones(3), {}
    for n in order[::-1]:
        found[int(n)] = lays[n] * left
        left = left * k[n]
    return found


def _three(values: np.ndarray) -> tuple[float, ...]:
    return tuple(float(v) for v in values)

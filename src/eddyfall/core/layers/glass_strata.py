"""The layers of one pixel with panes among them: what lets light through, what is blended, and what is lost between the two."""

from __future__ import annotations

import numpy as np

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.layers.capture import Layers
from eddyfall.core.layers.lost import DRAWN_OVER, HOWS, TrueLayers, as_it_lies, true_layers
from eddyfall.core.layers.strata import IN_PLACE, Strata, Stratum, shares_of, strata_at
from eddyfall.core.scene.build import Build
from eddyfall.core.shade.blend import KIND_NAMES


def strata_in(renderer: Renderer, build: Build, layers: Layers, request: Request, x: int, y: int) -> Strata:
    """The layers at a pixel of a captured frame. Those of panes are told before fog lies over them. RequestError if it lies outside."""
    plain = strata_at(layers, x, y)
    every = true_layers(renderer, build, layers.frame, request)
    (left, top), width = layers.frame.pixels.origin, layers.frame.pixels.shape[1]
    pixel = (y - top) * width + x - left
    if every is None or pixel not in every.pixels:
        return plain
    i = int(np.flatnonzero(every.pixels == pixel)[0])
    lies = np.arange(every.starts[i], every.starts[i + 1])
    drawn = _as_drawn(layers, every, lies, pixel)
    names, blend = [d.name for d in layers.frame.geometry.drawables], layers.frame.stage.state.blend
    lays = every.p + every.q[:, None] * every.opaque[i]
    shares, true_shares = shares_of(np.array(drawn), every.k, lays), shares_of(lies, every.k, lays)
    told = [*drawn, *(int(n) for n in lies if int(n) not in drawn)]
    strata = []
    for n in told:
        lost = every.how[n] >= 0
        before = [names[every.drawable[m]] for m in lies if every.pane[m] and every.far[m] < every.far[n]] if lost else []
        strata.append(
            Stratum(
                names[every.drawable[n]], KIND_NAMES[int(blend[every.drawable[n]])], float(every.far[n]), _three(every.k[n]),
                _three(lays[n]), _three(shares.get(n, np.zeros(3))), _three(true_shares[n]), HOWS[every.how[n]] if lost else IN_PLACE,
                tuple(dict.fromkeys(before)),
            )
        )  # fmt: skip
    due = as_it_lies(renderer, build, layers, request).reshape(-1, 3)[pixel]
    return Strata(
        (x, y), tuple(strata), tuple(told.index(int(n)) for n in lies), _three(every.opaque[i]), plain.drawn, _three(due), plain.solid_m,
        plain.copied_m,
    )  # fmt: skip


def _as_drawn(layers: Layers, every: TrueLayers, lies: np.ndarray, pixel: int) -> list[int]:
    """Layers of a pixel in the order they are drawn: panes, the farthest first, then what is blended, as pass 10 sorts it."""
    panes = [int(n) for n in lies if every.glass[n] and every.how[n] < 0]
    s = layers.shown
    turn = {(int(s.drawable[m]), float(s.far[m])): m for m in range(s.starts[pixel], s.starts[pixel + 1])}
    over = [int(n) for n in lies if not every.glass[n] and every.how[n] in (-1, HOWS.index(DRAWN_OVER))]
    return [*panes, *sorted(over, key=lambda n: turn.get((int(every.drawable[n]), float(every.far[n])), -1))]


def _three(values: np.ndarray) -> tuple[float, ...]:
    return tuple(float(v) for v in values)

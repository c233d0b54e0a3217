"""Biases of a front drawn again: what a frame with the light's leaves so set has, beside what thresholds said."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, apply_change, set_leaves
from eddyfall.core.truth.bias.ground import Ground, ground_of
from eddyfall.core.truth.bias.solve import Bias, BiasFront, Outcome, solve_bias
from eddyfall.core.truth.judge import SHADOWED, Judge

FINER = 1.05  # a predicted texel that does not do is made so much finer, a few times
TRIES = 6
MOST_EDGE = 8192


@dataclass(frozen=True)
class Redrawn:
    """One bias drawn: pixels that their own surface darkens, and points of shadows that are lost, of all viewpoints; and how many of both
    the thresholds said. change: what sets the bias."""

    outcome: Outcome
    false_px: int
    lost_points: int
    said_false_px: int
    said_lost_points: int
    change: Change

    @property
    def same(self) -> bool:
        """Whether the frame has what was said of it."""
        return (self.false_px, self.lost_points) == (self.said_false_px, self.said_lost_points)


@dataclass(frozen=True)
class AtTexel:
    """A way for which no bias does, and its light's maps drawn with a finer texel: whether one then does, and which."""

    way: str
    resolution: int
    texel_mm: float
    best: Outcome | None
    change: Change | None


@dataclass(frozen=True)
class SolvedBias:
    """A front with its points drawn again; where no way has a bias inside both limits, the finer texel tried."""

    front: BiasFront
    redrawn: tuple[Redrawn, ...]
    at_texel: AtTexel | None


def change_to(build: Build, light: str, bias: Bias, title: str = "", resolution: int | None = None) -> Change:
    """The change that sets a light's bias, and the edge of its maps if it is given."""
    values = {
        "bias_mm": bias.constant_mm,
        "bias_slope": bias.slope,
        "bias_normal_texels": bias.normal_texels,
        "bias_along_plane": bias.along_plane,
    }
    leaves: dict[tuple[str, ...], Any] = {("lights", light, leaf): value for leaf, value in values.items()}
    if resolution is not None:
        leaves["lights", light, "resolution"] = resolution
        title = title or f"{light}: maps of {resolution} texels, {bias.words}"
    return set_leaves(build, leaves, scope="node", title=title or f"{light}: {bias.words}")


def bias_of_light(
    renderer: Renderer,
    build: Build,
    requests: Sequence[Request],
    light: str,
    every: int = 2,
    progress: Callable[[str, float], None] = lambda what, share: None,
) -> SolvedBias:
    """Solve a light's bias over viewpoints and draw the points of the front again. Viewpoints where the light does not shine, or casts
    nothing, are left out; RequestError if none is left."""
    grounds, kept, refused = [], [], None
    for n, request in enumerate(requests):
        progress(request.viewpoint, 0.5 * n / len(requests))
        try:
            grounds.append(ground_of(renderer, build, request, light, every))
            kept.append(request)
        except RequestError as problem:
            refused = problem
    telling = [n for n, g in enumerate(grounds) if len(g.lit) or len(g.lines.points)]
    if telling:  # where it reaches nothing there is nothing to ask
        grounds, kept = [grounds[n] for n in telling], [kept[n] for n in telling]
    if not grounds:
        raise refused or RequestError("no viewpoint to ask at")
    front = solve_bias(grounds)
    shown = list(dict.fromkeys((*front.front, *(w.best for w in front.ways if w.best is not None))))
    redrawn = []
    for n, outcome in enumerate(shown):
        progress(outcome.bias.words, 0.5 + 0.4 * n / len(shown))
        redrawn.append(redraw(renderer, build, kept, grounds, outcome))
    progress("a finer texel", 0.9)
    at_texel = None if front.chosen is not None else finer(renderer, build, kept, front, every)
    return SolvedBias(front, tuple(redrawn), at_texel)


def redraw(renderer: Renderer, build: Build, requests: Sequence[Request], grounds: Sequence[Ground], outcome: Outcome) -> Redrawn:
    """Draw one bias at each viewpoint. No map is drawn anew."""
    light, drawn, said = grounds[0].name, [], []
    change = change_to(build, light, outcome.bias)
    changed = apply_change(build, change)
    for request, ground in zip(requests, grounds):
        judge = Judge(renderer, renderer.frame(changed, request, SHADOWED))
        drawn.append(ground.drawn_in(judge))
        look_up = judge.look_up(ground.light)
        steps = ground.steps(look_up)
        by = (look_up.constant_m, look_up.slope)
        said.append((steps.false_px(*by), steps.lost_points(*by)))
    dark, lost = (sum(v) for v in zip(*drawn))
    said_dark, said_lost = (sum(v) for v in zip(*said))
    return Redrawn(outcome, dark, lost, said_dark, said_lost, change)


def finer(
    renderer: Renderer,
    build: Build,
    requests: Sequence[Request],
    front: BiasFront,
    every: int = 2,
    way: str | None = None,
    most_edge: int = MOST_EDGE,
) -> AtTexel | None:
    """Draw the light's maps at the texel that the way with the coarsest one was said to need (or a given way), a little finer each time
    that it does not do, and solve there. None where no map can be so fine."""
    asked = [w for w in front.ways if w.resolution is not None and (way is None or w.name == way)]
    if not asked:
        return None
    best = min(asked, key=lambda w: w.resolution or 0)
    edge, found = float(best.resolution or 0), None
    for _ in range(TRIES):
        if edge > most_edge or front.technique == "paged":
            break
        whole = math.ceil(edge)
        change = set_leaves(build, {("lights", front.light, "resolution"): whole}, scope="node", title=f"{whole} texels")
        changed = apply_change(build, change)
        there = solve_bias([ground_of(renderer, changed, r, front.light, every) for r in requests])
        does = next(w.best for w in there.ways if w.name == best.name)
        if does is not None:
            both = change_to(build, front.light, does.bias, resolution=whole)
            return AtTexel(best.name, whole, there.texel_mm[1], does, both)
        found = AtTexel(best.name, whole, there.texel_mm[1], None, None)
        edge *= FINER
    return found

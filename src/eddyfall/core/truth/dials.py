"""What each dial of the passes that have the frame alone buys at a viewpoint, one turned at a time: nits nearer to what is due, noise, and
what it costs: places looked at along rays, rays, bytes, time."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eddyfall.core.frame.held import held_at
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.passes.contract import Stage
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, apply_change, set_resolved
from eddyfall.core.scene.setup.sections.screen import Marched
from eddyfall.core.truth.pass_noise import PASSES, added_noise
from eddyfall.core.truth.reference.of_frame import Wanted
from eddyfall.core.truth.response.in_place import drawn_even, due_even

SIZE = (480, 270)  # px at which frames are drawn; steps, rays and bytes are counted at COUNTED
COUNTED = (1920, 1080)
PLACES = 512  # spread over the frame, whose due light is worked out


@dataclass(frozen=True)
class Price:
    """A pass as it is set: mean nits of light from around on the frame, nits that surfaces are off what is due on the mean, noise of the
    pass (RMS of what it adds against what it tends to, over the mean of what it adds), and for a frame of COUNTED places looked at along
    rays, rays, bytes held; ms that it took here to draw one of SIZE."""

    nits: float
    off: float
    noise: float
    steps: int
    rays: int
    bytes: int
    ms: float


@dataclass(frozen=True)
class Dial:
    """One dial turned: of which pass, from what to what, the change, and the price then."""

    pass_name: str
    leaf: str
    old: Any
    new: Any
    change: Change
    price: Price


@dataclass(frozen=True)
class Dials:
    """At a viewpoint: due, mean nits of light from around; now: price of each pass that is on, as it is set; turned: each dial of it."""

    viewpoint: str
    due: float
    now: tuple[tuple[str, Price], ...]
    turned: tuple[Dial, ...]


def dials(
    renderer: Renderer, build: Build, request: Request, progress: Callable[[str, float], None] = lambda what, share: None
) -> Dials:
    """What each dial buys at a request's viewpoint; nothing where no such pass is on. RequestError for what makes no sense."""
    request = replace(request, size=SIZE, crop=None)
    frame = renderer.frame(build, request, "linear")
    on = [name for name, (kind, *_) in PASSES.items() if frame.stage.resolved[kind].enabled]
    pixels = Wanted(request=request, points=PLACES).pixels()
    of = frame.drawable[pixels[:, 1], pixels[:, 0]]
    pixels, of = pixels[of >= 0], of[of >= 0]
    due, clear = due_even(renderer, build, frame, request, pixels, of)
    at = pixels[clear]
    measured = _Places(at[:, 0], at[:, 1], due[clear], of[clear])
    now = tuple((name, _price(build, request, name, measured)) for name in on)
    turned = []
    wanted = [(name, *turn) for name in on for turn in _turns(frame.stage.resolved[PASSES[name][0]])]
    for number, (name, leaf, value) in enumerate(wanted):
        progress(f"{name}.{leaf}", number / len(wanted))
        setting = frame.stage.resolved[PASSES[name][0]]
        title = f"{name}.{leaf} {getattr(setting, leaf)} -> {value}"
        change = set_resolved(build, frame.stage.resolved, {f"{name}.{leaf}": value}, title=title)
        price = _price(apply_change(build, change), request, name, measured)
        turned.append(Dial(name, leaf, getattr(setting, leaf), value, change, price))
    return Dials(request.viewpoint, float(measured.due.mean()) if len(at) else 0.0, now, tuple(turned))


@dataclass(frozen=True)
class _Places:
    x: np.ndarray
    y: np.ndarray
    due: np.ndarray
    drawable: np.ndarray

    def off(self, drawn: np.ndarray) -> float:
        """Nits that surfaces are off what is due on the mean of their places, on the mean over all places: noise goes out of it."""
        if not len(self.x):
            return 0.0
        count = np.bincount(self.drawable)
        return float(np.abs(np.bincount(self.drawable, drawn - self.due))[count > 0].sum() / len(self.x))


def _turns(s: Marched) -> Iterator[tuple[str, Any]]:
    """(leaf, value) of each dial, turned up, or down where that saves most."""
    yield "steps", min(s.steps * 2, 512)
    yield "rays", min(s.rays * 2, 256)
    if s.rays > 1:
        yield "rays", s.rays // 2
    yield "reach_m", s.reach_m * 2
    yield "thickness_m", s.thickness_m * 2
    yield "margin_px", min(s.margin_px + 64, 512)
    yield "divisor", 1 if s.divisor > 1 else 2
    yield "rounds", min(s.rounds + 1, 5)
    if s.fallback != "world":
        yield "fallback", "world"


def _price(build: Build, request: Request, name: str, at: _Places) -> Price:
    # A renderer of its own: what the pass takes is timed, not remembered.
    renderer = Renderer()
    uncut = renderer.uncut(build, request, "linear")
    frame = renderer.frame(build, request, "linear")
    drawn = drawn_even(frame)[at.y, at.x] if len(at.x) else np.zeros(1)
    off = at.off(drawn)
    steps, rays, held = spent(uncut.stage, name)
    rms, mean = added_noise(uncut, name)
    ms = 1e3 * renderer.clock.seconds.get(f"pass {name}", 0.0)
    return Price(float(drawn.mean()), off, rms / mean if mean > 0 else 0.0, steps, rays, held, ms)


def spent(stage: Stage, name: str) -> tuple[int, int, int]:
    """(places looked at along rays, rays into the world at the most, bytes that all such passes hold) of a frame of COUNTED."""
    setting: Marched = stage.resolved[PASSES[name][0]]
    width, height = (-(-(edge + 2 * setting.margin_px) // setting.divisor) for edge in COUNTED)
    rays = width * height * setting.rays
    return rays * setting.steps, rays if setting.fallback == "world" else 0, sum(h.bytes for h in held_at(stage, COUNTED))

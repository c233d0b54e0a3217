"""The part of a proof that goes along the moves of the set-up: how far a repaired surface drifts from the light that is due to it, before
and after. A forecast: rays are followed once, poses are projected."""

from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.registry import name_of
from eddyfall.core.scene.setup.sections.screen import Bounce, Reflect
from eddyfall.core.truth.moving.along import LIMIT_STOPS, Along, Asked, along, move_of

RATE_HZ, ANCHORS, SAMPLES, BOUNCES = 6.0, 48, 64, 4
MOST_SURFACES = 2  # of those that share the cause
LEAST = 1e-3  # of what is due: less is as good as none


@dataclass(frozen=True)
class MoveProof:
    """A surface along a move: stops of drift before and after; further: stops by which it is further off what is due at some moment than it
    was [predictions]. Drift itself may grow where a repair lifts the best moment alone: that is no harm."""

    move: str
    surface: str
    before: float
    after: float
    further: float

    @property
    def worse(self) -> bool:
        """Whether some moment is worse than it was."""
        return self.further > LIMIT_STOPS


def along_moves(
    renderer: Renderer, before: Build, after: Build, cause: frozenset[str], target: str | None
) -> tuple[MoveProof, ...]:
    """Surfaces that share a cause, along every move that both builds have; none where neither bounce nor reflection is on in either."""
    if not cause or not any(_from_frame(build) for build in (before, after)):
        return ()
    found = []
    for move in before.setup.moves:
        if move not in after.setup.moves:
            continue
        told = 0
        for surface in sorted(cause):
            old, new = (_along(renderer, build, move, surface, target) for build in (before, after))
            if old is None or new is None:
                continue
            further = float(np.nanmax(_off(new) - _off(old), initial=0.0))
            found.append(MoveProof(move, surface, old.drift, new.drift, further))
            told += 1
            if told == MOST_SURFACES:
                break
    return tuple(found)


def _from_frame(build: Build) -> bool:
    """Whether anything works from the frame alone, in the project, a role or a target."""
    overlays = [entry.set for table in (build.setup.roles, build.setup.targets) for entry in table.values()]
    return any(build.setup[kind].enabled or any(name_of(kind) in o for o in overlays) for kind in (Bounce, Reflect))


def _off(told: Along) -> np.ndarray:
    """(p,) stops off what is due at each pose; nan where nothing is in sight."""
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(np.abs(np.log2(np.maximum(told.predicted, LEAST * told.due) / told.due)))


def _along(renderer: Renderer, build: Build, move: str, surface: str, target: str | None) -> Along | None:
    """The surface along the move; None where it is not in sight."""
    request = Request("", target=target)
    subject = next((k for k, d in enumerate(renderer.geometry(build).drawables) if surface in (d.name, d.node)), None)
    if subject is None:
        return None
    path = move_of(renderer, build, move, None, request)
    asked = Asked(
        path=replace(path, rate_hz=min(path.rate_hz, RATE_HZ)), request=request, subject=subject, anchors=ANCHORS, samples=SAMPLES,
        bounces=BOUNCES, worst=0,
    )  # fmt: skip
    try:
        return along(renderer, build, asked)
    except RequestError:
        return None

"""The part of a proof that goes along the moves of the set-up: how far a repaired surface drifts from the light that is due to it, before
and after. A forecast: rays are followed once, poses are projected."""

from dataclasses import dataclass, replace

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.registry import name_of
from eddyfall.core.scene.setup.sections.screen import Bounce, Reflect
from eddyfall.core.truth.moving.along import LIMIT_STOPS, Asked, along, move_of

RATE_HZ, ANCHORS, SAMPLES, BOUNCES = 6.0, 48, 64, 4
MOST_SURFACES = 2  # of those that share the cause
WORSE_STOPS = 0.05  # that drift may grow by


@dataclass(frozen=True)
class MoveProof:
    """A surface along a move: stops of drift before and after [predictions]."""

    move: str
    surface: str
    before: float
    after: float

    @property
    def worse(self) -> bool:
        """Whether it drifts beyond the limit, and more than it did."""
        return self.after > LIMIT_STOPS and self.after > self.before + WORSE_STOPS


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
            drifts = [_drift(renderer, build, move, surface, target) for build in (before, after)]
            if drifts[0] is None or drifts[1] is None:
                continue
            found.append(MoveProof(move, surface, drifts[0], drifts[1]))
            told += 1
            if told == MOST_SURFACES:
                break
    return tuple(found)


def _from_frame(build: Build) -> bool:
    """Whether anything works from the frame alone, in the project, a role or a target."""
    overlays = [entry.set for table in (build.setup.roles, build.setup.targets) for entry in table.values()]
    return any(build.setup[kind].enabled or any(name_of(kind) in o for o in overlays) for kind in (Bounce, Reflect))


def _drift(renderer: Renderer, build: Build, move: str, surface: str, target: str | None) -> float | None:
    """Stops; None where the surface is not in sight along the move."""
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
        return along(renderer, build, asked).drift
    except RequestError:
        return None

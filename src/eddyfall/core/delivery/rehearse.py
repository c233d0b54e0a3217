"""A delivery rehearsed: both builds rendered from every viewpoint, what is stale then, and every edit's fate; nothing is stored."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.bake.captures.capture import fits as probe_fits
from eddyfall.core.bake.captures.grid import grid_fits
from eddyfall.core.bake.maps.run import light_sets
from eddyfall.core.bake.maps.stamps import stale
from eddyfall.core.compare.ciede2000 import delta_e_2000
from eddyfall.core.delivery.carry import Answer, Carried, carry
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import digest
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Scene

SIZE = (480, 270)
VISIBLE = 2.0  # CIEDE2000 that is told apart


@dataclass(frozen=True)
class ViewDifference:
    """A viewpoint before and after: mean and 99th percentile CIEDE2000, and the share of pixels that differ visibly; all None where it is
    new."""

    viewpoint: str
    mean_de: float | None
    most_de: float | None
    differs: float | None


@dataclass(frozen=True)
class Rehearsal:
    """carried; views; stale: (what, why) of bakes and captures that the result shows stale; stamp: of all that acceptance would store."""

    carried: Carried
    views: tuple[ViewDifference, ...]
    stale: tuple[tuple[str, str], ...]
    stamp: str


def rehearse(
    old: Build, changes: Sequence[Change], new: Scene, delivered: dict[str, Any] | None = None,
    answers: Mapping[str, Answer] | None = None, renderer: Renderer | None = None, size: tuple[int, int] = SIZE,
    progress: Callable[[str, float], None] = lambda what, share: None,
) -> Rehearsal:  # fmt: skip
    """What a new delivery comes to. old: the build as it was delivered; changes: what is kept on it; the rest as `carry` has it.

    Raises what `carry` raises, and ChangeError if the old build's own changes do not apply."""
    renderer = renderer or Renderer()
    progress("matching parts", 0.0)
    carried = carry(old, changes, new, delivered, answers)
    views = []
    for k, name in enumerate(carried.result.setup.viewpoints):
        progress(f"rendering {name}", 0.1 + 0.8 * k / max(len(carried.result.setup.viewpoints), 1))
        views.append(_view(renderer, carried.head, carried.result, name, size))
    progress("asking what is stale", 0.9)
    return Rehearsal(carried, tuple(views), tuple(_stale(carried.result, renderer)), stamp_of(carried))


def stamp_of(carried: Carried) -> str:
    """Stamp of a delivery, of the changes that are kept on it and of the answers: equal stamps are the same acceptance."""
    kept = [change.model_dump(mode="json") for change in carried.changes]
    answers = [(e.key, e.answer) for e in carried.edits if e.answer is not None]
    return digest(carried.base.scene, carried.base.setup, kept, answers)[:16]


def _view(renderer: Renderer, before: Build, after: Build, name: str, size: tuple[int, int]) -> ViewDifference:
    if name not in before.setup.viewpoints:
        return ViewDifference(name, None, None, None)
    apart = delta_e_2000(*(renderer.frame(build, Request(name, size)).display for build in (before, after)))
    return ViewDifference(name, float(apart.mean()), float(np.percentile(apart, 99)), float((apart > VISIBLE).mean()))


def _stale(build: Build, renderer: Renderer) -> list[tuple[str, str]]:
    geometry = pack(build.scene, build.setup)
    found = []
    for light_set in light_sets(build) if build.setup.lightmaps else ():
        for s in stale(build, geometry, light_set):
            if s.why and not s.missing:
                found.append((f"lightmap of {s.receiver.name}" + (f" in {light_set}" if light_set else ""), "; ".join(s.why)))
    for what, fits in (("probe", probe_fits), ("light grid", grid_fits)):
        found += [(f"{what} {f.name}", "; ".join(f.why)) for f in fits(build, geometry, renderer) if f.why and not f.missing]
    return found

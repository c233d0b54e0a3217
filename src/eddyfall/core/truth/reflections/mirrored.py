"""What planar mirrors leave out: things whose base shader has no mirror pass, where rays from the mirrors' pixels meet them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.scene.build import Build
from eddyfall.core.shade.probes import mirrored_ways
from eddyfall.core.truth.reference.path_scene import path_scene
from eddyfall.core.truth.reflections.probed import eye_ways, surface_places


@dataclass(frozen=True)
class LeftOut:
    """By a base shader: things (names) that mirrors leave out, mirrors (drawables' names) that ought to show them, share of all mirror
    pixels, mask (h, w) bool of them."""

    shader: str
    things: tuple[str, ...]
    mirrors: tuple[str, ...]
    share: float
    mask: np.ndarray


def left_out(renderer: Renderer, build: Build, frame: Frame) -> list[LeftOut]:
    """What the mirrors of a whole frame leave out, by base shader."""
    state = frame.stage.state
    if state.in_mirrors.all() or not np.asarray(frame.buffers["in_mirror"]).any():
        return []
    y, x = np.nonzero(frame.buffers["in_mirror"])
    place, _ = surface_places(frame, x, y)
    way = mirrored_ways(frame.buffers["surface"][y, x], -eye_ways(frame, x, y))
    scene = path_scene(renderer, build, frame)
    hits = scene.met.hits(place, way)
    met = np.where(hits.triangle >= 0, scene.soup.owner[hits.triangle], -1)
    names, shaders = [d.name for d in frame.geometry.drawables], np.array(state.shader)
    found = []
    for shader in sorted({state.shader[d] for d in np.unique(met[met >= 0]) if not state.in_mirrors[d]}):
        mine = (met >= 0) & (shaders[met] == shader)
        mask = np.zeros(frame.drawable.shape, bool)
        mask[y[mine], x[mine]] = True
        things, mirrors = (tuple(names[d] for d in np.unique(of)) for of in (met[mine], frame.drawable[mask]))
        found.append(LeftOut(shader, things, mirrors, float(mine.mean()), mask))
    return found

"""Glass that reflections by rays through the frame leave out: they read a picture of before it is laid.

Told by rays along the mirrored ways: what lets light through and stands before what is mirrored ought to dim it by what it keeps. Light of
its own is left out, and rays are asked at every second pixel of smooth surfaces."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.passes import reflect, refract
from eddyfall.core.passes.refract import panes_met
from eddyfall.core.scene.setup.sections.refract import Refract
from eddyfall.core.scene.setup.sections.screen import Reflect
from eddyfall.core.shade.columns import ROUGH
from eddyfall.core.shade.probes import mirrored_ways
from eddyfall.core.shade.through import SeenThrough, go_through
from eddyfall.core.truth.reference.classes import projected
from eddyfall.core.truth.reference.shown import SMOOTH
from eddyfall.core.truth.reflections.probed import eye_ways, surface_places
from eddyfall.core.truth.visibility import rays_of

STRIDE = 2
DARK = 1e-5  # nit: where nothing is mirrored nothing is mirrored too much


@dataclass(frozen=True)
class Absent:
    """Things of one material that mirrors leave out: drawables, mirrors (drawables), where (h, w) bool, too_much (h, w, 3) nits that are
    mirrored though the glass keeps them [prediction]."""

    material: int
    things: tuple[int, ...]
    mirrors: tuple[int, ...]
    where: np.ndarray
    too_much: np.ndarray


def absent_from(renderer: Renderer, frame: Frame) -> list[Absent]:
    """What lets light through and is in no reflection of a whole frame, drawn up to its linear picture, where it ought to be."""
    state, resolved = frame.stage.state, frame.stage.resolved
    glass = state.refracts & state.drawn & ~state.camera_hidden
    if not resolved[Reflect].enabled or not glass.any():
        return []
    inputs = {name: frame.buffers[name] for name in reflect.PASS.reads}
    part = reflect.takes_part(inputs, reflect.section(frame.stage)) & (frame.buffers["surface"][..., ROUGH] <= SMOOTH)
    part[1::STRIDE], part[:, 1::STRIDE] = False, False
    y, x = np.nonzero(part)
    if not len(y):
        return []
    place, _ = surface_places(frame, x, y)
    way = mirrored_ways(frame.buffers["surface"][y, x], -eye_ways(frame, x, y))
    solid = state.drawn & state.colour_pass & (state.solid == 1) & ~state.camera_hidden & ~glass
    solid[frame.geometry.plate] = False
    _, far = rays_of(renderer, frame, solid).first_hit(place, way)
    kept = _kept_by_material(renderer, frame, glass, place, way, far)
    held = _held(frame, place + way * np.minimum(far, 1e6)[:, None]) if resolved[Refract].reflect_copy == "after" else {}
    mirrored = np.zeros((*frame.pixels.shape, 3))
    mirrored += frame.buffers["reflected"]
    mirrored += frame.buffers["mirrored"]
    height, width = frame.pixels.shape
    found, shows = [], mirrored[y, x].max(axis=1) > DARK
    for material, (share, things) in kept.items():
        lost = (share < 1).any(axis=1) & shows & ~held.get(material, np.zeros(len(y), bool))
        if not lost.any():
            continue
        where, too_much = np.zeros(frame.drawable.shape, bool), np.zeros((*frame.drawable.shape, 3))
        rows, columns, gone = np.asarray(y[lost]), np.asarray(x[lost]), 1 - share[lost]
        mirror = np.asarray(frame.drawable)[rows, columns]
        for dy, dx in ((k // STRIDE, k % STRIDE) for k in range(STRIDE**2)):  # each asked pixel stands for its block
            v, u = np.clip(rows + dy, 0, height - 1), np.clip(columns + dx, 0, width - 1)
            same = np.flatnonzero(np.asarray(frame.drawable)[v, u] == mirror)
            where[v[same], u[same]] = True
            too_much[v[same], u[same]] = mirrored[v[same], u[same]] * gone[same]
        mirrors = tuple(int(d) for d in np.unique(frame.drawable[where]))
        found.append(Absent(material, things, mirrors, where, too_much))
    return found


def _kept_by_material(
    renderer: Renderer, frame: Frame, glass: np.ndarray, place: np.ndarray, way: np.ndarray, far: np.ndarray
) -> dict[int, tuple[np.ndarray, tuple[int, ...]]]:  # fmt: skip
    """By material: ((n, 3) what its things keep of light that comes along each ray from within far (n,) m, the drawables met)."""
    s, surfaces = frame.stage.state, frame.buffers["textures"].surfaces
    kept: dict[int, np.ndarray] = {}
    met: dict[int, set[int]] = {}

    def take(rays: np.ndarray, drawables: np.ndarray, _: np.ndarray, share: np.ndarray) -> None:
        for material in np.unique(s.material[drawables]):
            mine = s.material[drawables] == material
            kept.setdefault(int(material), np.ones((len(place), 3)))[rays[mine]] *= share[mine]
            met.setdefault(int(material), set()).update(int(d) for d in np.unique(drawables[mine]))

    scene = rays_of(renderer, frame, glass).solid
    go_through(scene, place, way, far, SeenThrough.of(s), surfaces, take, seen_from_end=False)
    return {m: (share, tuple(sorted(met[m]))) for m, share in kept.items()}


def _held(frame: Frame, place: np.ndarray) -> dict[int, np.ndarray]:
    """By material, (n,) bool: places (n, 3) that the eye sees through something of it, so that a copy of after holds it there."""
    panes = panes_met({name: frame.buffers[name] for name in refract.PASS.reads}, refract.section(frame.stage))
    if panes is None:
        return {}
    depth, x, y = projected(frame.camera, frame.pixels.size, place)
    height, width = frame.drawable.shape
    on = (depth > 0) & (x >= 0) & (y >= 0) & (x < width) & (y < height)
    pixel = np.where(on, np.clip(y, 0, height - 1).astype(int) * width + np.clip(x, 0, width - 1).astype(int), 0)
    material = frame.stage.state.material[panes.drawable]
    found = {}
    for m in np.unique(material):
        covered = np.zeros(height * width, bool)
        covered[panes.pixel[panes.open & (material == m)]] = True
        found[int(m)] = on & covered[pixel]
    return found

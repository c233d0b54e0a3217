"""The chain that glass hangs by at one pixel: everything that has to hold for what is behind it to be seen through it.

Every link is looked at, whatever the others say, so that the next one to break is told with the first."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.layers.glass_here import Behind, Met, Told, met_at
from eddyfall.core.layers.links import LINKS, Link
from eddyfall.core.layers.plates import plates
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.tables import MaterialSetup
from eddyfall.core.shade.columns import IOR
from eddyfall.core.shade.optics import fresnel, slab, slab_shift


@dataclass(frozen=True)
class Chain:
    """The chain of a drawable's material at a pixel. keeps (3,): of what is seen through it, as the stand-in would draw it with every link
    whole; due (3,): of the same glass by Fresnel's equations and all reflections inside. reads: px of the frame at which the copy is
    read, bends_px by how much that is off this pixel, true_px by how much a real slab would shift what lies behind."""

    pixel: tuple[int, int]
    drawable: str
    material: str
    links: tuple[Link, ...]
    behind: tuple[Behind, ...]
    far_m: float
    keeps: tuple[float, ...]
    due: tuple[float, ...]
    reads: tuple[float, float]
    bends_px: float
    true_px: float | None

    @property
    def broken(self) -> tuple[Link, ...]:
        """Links that do not hold, first one first."""
        return tuple(link for link in self.links if not link.holds)


def meant(build: Build) -> list[bool]:
    """By material (the default last): whether file or setup mean it to let light through."""
    found = []
    for key, m in zip(build.scene.material_keys, build.scene.materials):
        entry = build.setup.materials.get(key, MaterialSetup())
        found.append(m.transmission > 0 or m.transmission_texture is not None or entry.transmits in ("thin", "solid"))
    return [*found, False]


def _glass_of(build: Build, frame: Frame, met: list[Met], subject: str | None) -> list[int]:
    """Which of what is met is the subject, or is meant to let light through."""
    wanted, of = meant(build), frame.geometry.drawables
    return [
        n for n, f in enumerate(met) if (of[f.drawable].name == subject if subject else wanted[of[f.drawable].material])
    ]  # fmt: skip


def lies_at(renderer: Renderer, build: Build, request: Request, x: int, y: int) -> bool:
    """Whether anything that is meant to let light through lies at a pixel."""
    if not any(meant(build)):
        return False
    frame = renderer.frame(build, replace(request, crop=(x, y, x + 1, y + 1)), "depth")
    return bool(_glass_of(build, frame, met_at(frame, x, y), None))


def chain_at(renderer: Renderer, build: Build, request: Request, x: int, y: int, subject: str | None = None) -> Chain:
    """The chain at a pixel of the request's frame, of a drawable by name, or of the nearest there that is meant to let light through.
    RequestError if the pixel lies outside, or nothing such is there."""
    width, height = request.size
    if not (0 <= x < width and 0 <= y < height):
        raise RequestError(f"pixel {x},{y} is outside the {width} x {height} frame")
    frame = renderer.frame(build, replace(request, crop=(x, y, x + 1, y + 1)), "depth")
    met = met_at(frame, x, y)
    mine = _glass_of(build, frame, met, subject)
    if not mine:
        there = f"{subject} does not lie at" if subject else "nothing that is meant to let light through lies at"
        raise RequestError(f"{there} pixel {x},{y}")
    return _chain(Told(build, request, frame, met, mine[0], (x, y)))


def measured_at(
    renderer: Renderer, build: Build, request: Request, x: int, y: int, subject: str | None = None
) -> tuple[Chain, np.ndarray]:
    """The chain at a pixel, and (3,) what is kept there of what is behind, by two plates. RequestError as `chain_at`."""
    told = chain_at(renderer, build, request, x, y, subject)
    which = [d.name for d in renderer.geometry(build).things].index(told.drawable)
    here = replace(request, crop=(x, y, x + 1, y + 1))
    if which not in renderer.frame(build, here, "in_view").buffers["in_view"]:
        return told, np.ones(3)  # it is not there
    return told, plates(renderer, build, here, [which]).k[0, 0]


def _chain(t: Told) -> Chain:
    m, found = t.met[t.which], t.through()
    told = (link(t, found) for link in LINKS)
    links = tuple(replace(link, fix=None) if link.holds else link for link in told)
    x, y = t.pixel
    behind = t.behind()
    away = next((b.far_m for b in behind if math.isfinite(b.far_m)), None)
    factors = t.frame.buffers["textures"].surfaces.factors[t.row]
    ior = max(float(factors[IOR]), 1.0)
    thickness_m = found.way * math.sqrt(1 - (1 - found.cosine**2) / ior**2)
    px = t.request.size[1] / 2 / math.tan(t.frame.camera.fov_y_rad / 2)
    _, through = slab(fresnel(found.cosine, ior), found.absorbed)
    true_px = None if away is None else slab_shift(thickness_m, found.cosine, ior) / away * px
    return Chain(
        t.pixel, t.frame.geometry.drawables[m.drawable].name, t.key, links, tuple(behind), m.far_m,
        _three(found.kept), _three(found.colour * found.through * through), (float(found.at[0]), float(found.at[1])),
        math.hypot(found.at[0] - x - 0.5, found.at[1] - y - 0.5), true_px,
    )  # fmt: skip


def _three(values: np.ndarray) -> tuple[float, ...]:
    return tuple(float(v) for v in np.broadcast_to(values, 3))

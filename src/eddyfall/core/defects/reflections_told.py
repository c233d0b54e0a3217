"""All of a build's reflection probes and planar mirrors, as they stand and as viewpoints see them: what the sheet and the command tell."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from eddyfall.core.bake.captures.capture import fits
from eddyfall.core.bake.captures.grid import grid_fits
from eddyfall.core.bake.captures.records import Fit
from eddyfall.core.defects.grid_faults import judged as grid_judged
from eddyfall.core.defects.probe_faults import judged
from eddyfall.core.frame.mirrors import check_mirrors
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.tables import Grid, MirrorSetup, Probe
from eddyfall.core.truth.reflections.gridded import Gridded, gridded
from eddyfall.core.truth.reflections.mirrored import LeftOut, left_out
from eddyfall.core.truth.reflections.probed import Probed, probed


@dataclass(frozen=True)
class ProbeTold:
    """A probe: what the setup says, how it fits in each light set, at each viewpoint that takes from it what it is off by, and which faults
    that makes (codes)."""

    name: str
    probe: Probe
    fits: tuple[Fit, ...]
    seen: tuple[tuple[str, Probed, tuple[str, ...]], ...]


@dataclass(frozen=True)
class MirrorTold:
    """A mirror: what the setup says; by viewpoint its pixels, and what it leaves out."""

    name: str
    mirror: MirrorSetup
    seen: tuple[tuple[str, int, tuple[LeftOut, ...]], ...]


@dataclass(frozen=True)
class GridTold:
    """A light grid: what the setup says, and how it fits in each light set."""

    name: str
    grid: Grid
    fits: tuple[Fit, ...]


@dataclass(frozen=True)
class Reflections:
    """movers: (viewpoint, what a thing that moves gets there, codes of what is wrong); views: (viewpoint, eye, direction it looks in)."""

    probes: tuple[ProbeTold, ...]
    mirrors: tuple[MirrorTold, ...]
    grids: tuple[GridTold, ...]
    movers: tuple[tuple[str, Gridded, tuple[str, ...]], ...]
    views: tuple[tuple[str, tuple[float, ...], tuple[float, ...]], ...]


def reflections(
    renderer: Renderer, build: Build, viewpoints: list[str], target: str | None = None, place: tuple[float, float, float] | None = None,
    progress: Callable[[str, float], None] = lambda what, share: None,
) -> Reflections:  # fmt: skip
    """All of them, at some viewpoints; place (m): of the world, where probes show it is asked besides. SetupError for a mirror that is not
    flat, or a torn map."""
    check_mirrors(build)
    fitting = fits(build, renderer.geometry(build), renderer)
    measured: dict[str, list[Probed]] = {}
    mirrors: dict[str, list[tuple[str, int, tuple[LeftOut, ...]]]] = {name: [] for name in build.setup.mirrors}
    views, movers = [], []
    for number, view in enumerate(viewpoints):
        progress(f"looking from {view}", number / len(viewpoints))
        request = Request(view, target=target)
        frame = renderer.frame(build, request, "linear")
        views.append((view, tuple(float(v) for v in frame.camera.eye), tuple(float(v) for v in frame.camera.forward)))
        measured[view] = probed(renderer, build, request, place=place)
        if any(n.moves for n in build.setup.nodes.values()):
            found = gridded(renderer, build, request)
            movers += [(view, g, tuple(code for code, _, _ in grid_judged(g))) for g in found]
        gaps = left_out(renderer, build, frame) if build.setup.mirrors else []
        in_mirror = np.broadcast_to(frame.buffers["in_mirror"], frame.drawable.shape)
        for name, mirror in build.setup.mirrors.items():
            mine = [k for k, d in enumerate(frame.geometry.drawables) if d.node == mirror.node]
            pixels = int((in_mirror & np.isin(frame.drawable, mine)).sum())
            parts = {frame.geometry.drawables[k].name for k in mine}
            mirrors[name].append((view, pixels, tuple(g for g in gaps if parts & set(g.mirrors))))
    probes = []
    for name, probe in build.setup.probes.items():
        seen = [(v, p, tuple(s.code for s in judged(p))) for v, found in measured.items() for p in found if p.name == name]
        probes.append(ProbeTold(name, probe, tuple(f for f in fitting if f.name == name), tuple(seen)))
    told = tuple(MirrorTold(name, mirror, tuple(mirrors[name])) for name, mirror in build.setup.mirrors.items())
    lattice = grid_fits(build, renderer.geometry(build), renderer)
    grids = tuple(GridTold(name, g, tuple(f for f in lattice if f.name == name)) for name, g in build.setup.grids.items())
    return Reflections(tuple(probes), told, grids, tuple(movers), tuple(views))

"""How fine a light's shadows are drawn at one viewpoint: texels against pixels at their edges, steps at joins between maps, what comes
through holes, what is thinner than a texel, how wide its edges are."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.build import Build
from eddyfall.core.truth.disagreement import disagreement
from eddyfall.core.truth.holes import HoleShare, hole_shares
from eddyfall.core.truth.joins import JoinGap, join_gaps
from eddyfall.core.truth.judge import SHADOWED, Judge
from eddyfall.core.truth.long_section import light_number
from eddyfall.core.truth.shadow_classes import Class, Disagreement
from eddyfall.core.truth.softness import SoftEdge, soft_edges
from eddyfall.core.truth.surfaces import pixel_m, to_light
from eddyfall.core.truth.widths import Thin, thin_casters

EVERY = 2  # pixels across and down that one ray stands for
LEAST_HOLES = 16  # surfaces inside a shadow, or its share says nothing


@dataclass(frozen=True)
class EdgeTexels:
    """The edges of a light's shadows: rows (n,) of the surfaces within the filter of a true edge, how many pixels these are, and how many
    pixels a texel covers there, at the median."""

    rows: np.ndarray
    pixels: int
    pixels_a_texel: float


@dataclass(frozen=True)
class Fineness:
    """A light at a viewpoint. edges: None where no map serves an edge; holes and thin with the names of their materials and casters; soft:
    its edges by how far their casters stand in front, where its size is said."""

    viewpoint: str
    light: str
    technique: str
    edges: EdgeTexels | None
    joins: tuple[JoinGap, ...]
    holes: tuple[tuple[str, HoleShare], ...]
    thin: tuple[tuple[str, Thin], ...]
    soft: tuple[SoftEdge, ...]


def fineness(renderer: Renderer, build: Build, request: Request, light: str | None = None) -> Fineness:
    """How fine a light's shadows are (the first that shines if none is named). RequestError if no light shines, or not that one."""
    frame = renderer.frame(build, request, SHADOWED)
    number = light_number(frame, light)
    judge, whole, state = Judge(renderer, frame), disagreement(renderer, frame, EVERY), frame.stage.lights[number]
    keys, drawables = build.scene.material_keys, frame.geometry.drawables
    return Fineness(
        request.viewpoint, state.name, state.technique, edge_texels(judge, whole, number),
        tuple(g for g in join_gaps(renderer, build, request) if g.light == state.name),
        tuple((keys[h.material], h) for h in hole_shares(judge, number, whole.surfaces, LEAST_HOLES)),
        tuple((drawables[t.drawable].name, t) for t in thin_casters(renderer, frame, whole, number)),
        tuple(soft_edges(judge, number, whole.surfaces, EVERY)),
    )  # fmt: skip


def edge_texels(judge: Judge, whole: Disagreement, number: int) -> EdgeTexels | None:
    """What a texel covers at the edges of a light's shadows: texel / (depth x a pixel's size at one metre)."""
    rows = np.flatnonzero(whole.lights[number].classes == Class.EDGE)
    if judge.traced(number) or not len(rows):
        return None
    s = whole.surfaces.of(rows)
    _, distance = to_light(s, number, judge.frame)
    ratio = judge.texel_m(number, s, distance) / (s.depth_m * pixel_m(judge.frame))
    return EdgeTexels(rows, len(rows) * whole.each, float(np.median(ratio)))

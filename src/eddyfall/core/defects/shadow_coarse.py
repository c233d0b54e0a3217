"""shadow.coarse: a light's maps are coarser than what the pixels at its shadows' edges show, so that edges come out in blocks.

A texel is as large as so many pixels: texel / (depth x a pixel's size at one metre). Measured where true edges are, at their median."""

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.shadow_added import added
from eddyfall.core.defects.survey import Survey, by_cause, mask_of, region_of
from eddyfall.core.frame.render import Frame
from eddyfall.core.scene.changes import Change, set_leaf, set_resolved
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.shade.cascades import Slice, cascade_slices
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.truth.disagreement import disagreement
from eddyfall.core.truth.fineness import edge_texels
from eddyfall.core.truth.judge import SHADOWED, Judge
from eddyfall.core.truth.surfaces import pixel_m

CODE = "shadow.coarse"
MOST = 4.0  # pixels that a texel covers at the median edge
WELL = 0.8 * MOST  # aimed at: finer maps have other edges within their filter
LEAST_PX = 256  # of edges, or their median says little
EVERY = 2
MOST_EDGE = 8192
HUNDREDTHS = 100


@dataclass(frozen=True)
class Coarse:
    """The edges of a light's shadows at a viewpoint: median pixels a texel covers, pixels of edges, where; depth_m (n,) of each and
    due_m: the farthest depth at which a shadow of it is due; a picture."""

    light: str
    pixels_a_texel: float
    pixels: int
    region: tuple[int, int, int, int]
    depth_m: np.ndarray
    due_m: float
    picture: np.ndarray | None
    subjects: tuple[str, ...]


def observe(survey: Survey, viewpoint: str) -> dict[str, Coarse]:
    """By light: edges that are drawn too coarsely; not for lights by rays."""
    frame = survey.frame(viewpoint, SHADOWED)
    if not frame.stage.lights:
        return {}
    whole, judge, found = disagreement(survey.renderer, frame, EVERY), Judge(survey.renderer, frame), {}
    for number, light in enumerate(whole.lights):
        edges = edge_texels(judge, whole, number)
        if edges is None or edges.pixels < LEAST_PX or edges.pixels_a_texel <= MOST:
            continue
        s = whole.surfaces.of(edges.rows)
        mask = mask_of(frame.pixels.shape, s.pixels, EVERY)
        told_apart = whole.surfaces.range_m if judge.shadow.reach_by == "range" else whole.surfaces.depth_m
        due_m = float(told_apart[light.true == 0].max(initial=0.0))
        names = tuple(frame.geometry.drawables[d].name for d in np.unique(s.drawable))
        found[light.light] = Coarse(
            light.light, edges.pixels_a_texel, edges.pixels, region_of(mask), told_apart[edges.rows],
            due_m, survey.painted(viewpoint, mask), names,
        )  # fmt: skip
    return found


def conclude(survey: Survey, seen: dict[str, dict[str, Coarse]]) -> list[Suspicion]:
    """One suspicion for each light."""
    return [_suspicion(survey, light, where) for light, where in sorted(by_cause(seen).items())]


def _suspicion(survey: Survey, light: str, where: dict[str, Coarse]) -> Suspicion:
    worst = max(where, key=lambda v: where[v].pixels_a_texel)
    most = where[worst]
    evidence = Evidence(
        measure=f"pixels that a texel covers at its shadows' edges, the median at {worst}", value=most.pixels_a_texel, unit="px",
        limit=MOST, source=f"{most.pixels} px within the filter of a true edge", picture=most.picture,
    )  # fmt: skip
    return Suspicion(
        code=CODE,
        cause_kind="setting",
        cause=f"{light}: texels",
        title=f"Shadow edges of {light} come out in blocks: a texel covers {most.pixels_a_texel:.3g} px",
        subjects=tuple(dict.fromkeys(name for coarse in where.values() for name in coarse.subjects)),
        value=most.pixels_a_texel,
        limit=MOST,
        evidence=(evidence,),
        pixels={v: coarse.pixels for v, coarse in where.items()},
        regions={v: coarse.region for v, coarse in where.items()},
        candidates=tuple(_candidates(survey, worst, most, where)) if survey.pictures else (),
        facts={"light": light},
    )


def _candidates(survey: Survey, viewpoint: str, most: Coarse, where: dict[str, Coarse]) -> Iterator[Candidate]:
    before = survey.frame(viewpoint, "shadow_maps")
    for change, predicts in _changes(survey, before, most, where):
        yield Candidate(change=change, predicts=predicts, costs=added(survey, viewpoint, change))


def _changes(survey: Survey, frame: Frame, most: Coarse, where: dict[str, Coarse]) -> Iterator[tuple[Change, str]]:
    build, resolved = survey.build, frame.stage.resolved
    shadow, light = resolved[Shadow], next(v for v in frame.stage.lights if v.name == most.light)
    edge = light.resolution or (shadow.resolution if light.kind == DIRECTIONAL else shadow.light_resolution)
    if light.technique == "paged":
        finer = float(f"{shadow.page_texel_px * WELL / most.pixels_a_texel:.2g}")
        yield (
            set_resolved(build, resolved, {"shadow.page_texel_px": finer}, title=f"pages of {finer:g} px a texel"),
            "finer pages",
        )
        return
    if light.kind == DIRECTIONAL:
        for split in range(round(shadow.split_lambda * HUNDREDTHS) + 1, HUNDREDTHS + 1):
            left = predicted(frame, slices_with(frame, shadow, edge, split_lambda=split / HUNDREDTHS), most)
            if left <= WELL:
                change = set_resolved(
                    build, resolved, {"shadow.split_lambda": split / HUNDREDTHS}, title=f"split lambda {split / 100:g}"
                )
                yield change, f"near slices become narrower: {left:.3g} px a texel, far ones wider"
                break
        due = math.ceil(max(coarse.due_m for coarse in where.values()) * 1.02 / 10) * 10
        if shadow.far_reach_m <= shadow.reach_m and due < shadow.reach_m:
            left = predicted(frame, slices_with(frame, shadow, edge, reach_m=float(due)), most)
            if left <= WELL:
                change = set_resolved(build, resolved, {"shadow.reach_m": float(due)}, title=f"shadow reach {due} m")
                yield change, f"as far as any viewpoint has a shadow due: {left:.3g} px a texel"
    finer_edge = 2 ** math.ceil(math.log2(edge * most.pixels_a_texel / WELL))
    if finer_edge <= MOST_EDGE:
        if light.resolution is not None:
            path = ("lights", light.name, "resolution")
            change = set_leaf(build, path, finer_edge, scope="project", title=f"{light.name}: maps of {finer_edge} texels")
        else:
            leaf = "shadow.resolution" if light.kind == DIRECTIONAL else "shadow.light_resolution"
            change = set_resolved(build, resolved, {leaf: finer_edge}, title=f"shadow maps of {finer_edge} texels")
        yield change, "texels smaller in all maps alike"


def slices_with(frame: Frame, shadow: Shadow, edge: int, **values: float) -> list[Slice]:
    """The cascades that a frame would have with other settings."""
    s, camera = shadow.model_copy(update=values), frame.camera
    return cascade_slices(
        s.near_m, s.reach_m, s.cascades, s.split_lambda, edge, camera.fov_y_rad, camera.aspect, s.far_reach_m, s.far_resolution,
        s.reach_by == "range",
    )  # fmt: skip


def predicted(frame: Frame, slices: list[Slice], coarse: Coarse) -> float:
    """Median pixels that a texel of other cascades would cover at the same edges; infinite where most have no map any more."""
    texel = np.full(len(coarse.depth_m), np.inf)
    for part in slices:
        inside = (coarse.depth_m >= part.near_m) & (coarse.depth_m < part.far_m)
        texel[inside] = part.texel_m
    return float(np.median(texel / (coarse.depth_m * pixel_m(frame))))


FAMILY = register(
    Family(
        "shadow coarse",
        (
            Code(
                code=CODE,
                words="Shadow edges come out in blocks: texels are larger than the pixels that show them",
                kind="Shadow",
                symptom="blocky shadow edges",
                limit="a texel may cover 4 px at the median edge of a light's shadows",
                sheet="shadow-reach",
            ),
        ),
        observe,
        conclude,
    )
)

"""import.far-off: things so far from the origin that float32 coordinates move them by a visible share of a pixel."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.passes.contract import Camera
from eddyfall.core.scene.changes import Change, Operation

CODE = "import.far-off"
LIMIT_PX = 0.05  # a step of coordinates above this is seen as a tremble when the camera moves (common practice, no source)
LEAST_PIXELS = 16


@dataclass(frozen=True)
class Trembling:
    """Pixels whose surface lies on coordinates too coarse for it; the worst step in px and in m; by drawable its pixels."""

    pixels: int
    region: tuple[int, int, int, int]
    worst_px: float
    worst_m: float
    of_drawable: dict[int, int]
    picture: np.ndarray | None


def steps(survey: Survey) -> tuple[np.ndarray, np.ndarray]:
    """(d,) steps in metres between neighbouring float32 coordinates: in the world, and of the mesh's own vertices."""
    scene, geometry = survey.build.scene, survey.geometry
    nodes = {key: i for i, key in enumerate(scene.node_keys)}
    meshes = {key: i for i, key in enumerate(scene.mesh_keys)}
    own = np.zeros(len(geometry.drawables))
    scale = {i: float(np.linalg.norm(m[:3, :3], axis=0).max()) for i, m in enumerate(scene.world_matrices)}
    farthest = [max((float(np.abs(p.positions).max()) for p in mesh.primitives), default=0.0) for mesh in scene.meshes]
    for i, d in enumerate(geometry.things):
        own[i] = float(np.spacing(np.float32(farthest[meshes[d.mesh]]))) * scale[nodes[d.node]]
    world = np.spacing(np.abs(geometry.bounds).max(axis=(1, 2)).astype(np.float32)).astype(np.float64)
    return world, own


def observe(survey: Survey, viewpoint: str) -> Trembling | None:
    """Where one step of the coordinates, vertex and eye each off by half of one, is more than a twentieth of a pixel."""
    frame = survey.frame(viewpoint, "drawable")
    world, own = steps(survey)
    step = np.maximum(np.maximum(world, np.spacing(np.float32(np.abs(frame.camera.eye).max()))), own)
    met = (frame.drawable >= 0) & np.isfinite(frame.view_depth)
    shift = np.where(
        met, step[frame.drawable] * focal_px(frame.camera, survey.size[1]) / np.where(met, frame.view_depth, 1.0), 0.0
    )
    mask = shift > LIMIT_PX
    if mask.sum() < LEAST_PIXELS:
        return None
    counts = np.bincount(frame.drawable[mask])
    at = np.unravel_index(int(np.argmax(shift)), shift.shape)
    return Trembling(
        int(mask.sum()), region_of(mask), float(shift[at]), float(step[frame.drawable[at]]),
        {int(d): int(counts[d]) for d in np.flatnonzero(counts)}, survey.painted(viewpoint, mask),
    )  # fmt: skip


def focal_px(camera: Camera, height: int) -> float:
    """Pixels that one metre covers at a view depth of one metre."""
    return float(height / 2 / np.tan(camera.fov_y_rad / 2))


def conclude(survey: Survey, seen: dict[str, Trembling | None]) -> list[Suspicion]:
    """At most one suspicion: where the scene stands."""
    found = {v: t for v, t in seen.items() if t is not None}
    if not found:
        return []
    geometry = survey.geometry
    view = max(found, key=lambda v: found[v].worst_px)
    worst = found[view]
    members = sorted({d for t in found.values() for d in t.of_drawable})
    low, high = geometry.bounds[members, 0].min(axis=0), geometry.bounds[members, 1].max(axis=0)
    away = float(np.linalg.norm((low + high) / 2))
    world, own = steps(survey)
    in_file = bool((own[members] >= world[members]).any())
    evidence = (
        Evidence(
            measure="largest step of coordinates, on the screen",
            value=worst.worst_px,
            unit="px",
            limit=LIMIT_PX,
            source="seen as a tremble when the camera moves (common practice)",
            picture=worst.picture,
        ),
        Evidence(
            measure="largest step of coordinates",
            value=worst.worst_m * 1000,
            unit="mm",
            limit=None,
            source="spacing of float32 (IEEE 754)",
        ),
        Evidence(measure="pixels on such coordinates", value=float(worst.pixels), unit="px"),
        Evidence(measure="distance of these things from the origin", value=away, unit="m"),
    )
    names = tuple(geometry.drawables[d].name for d in members)
    nearer = "their meshes' own vertices lie that far out" if in_file else "it can be moved nearer"
    return [
        Suspicion(
            code=CODE,
            cause_kind="scene",
            cause="place",
            title=f"Precision is lost: things stand {away:,.0f} m from the origin; {nearer}",
            subjects=names[:200],
            value=worst.worst_px,
            limit=LIMIT_PX,
            evidence=evidence,
            pixels={v: t.pixels for v, t in found.items()},
            regions={v: t.region for v, t in found.items()},
            candidates=(_recentre((low + high) / 2),),
            facts={"away_m": away, "in_the_file": in_file},
        )
    ]


def _recentre(centre: np.ndarray) -> Candidate:
    by: list[Any] = [-float(round(v)) for v in centre]
    change = Change(
        id="scene.move",
        title=f"move everything by ({', '.join(f'{v:g}' for v in by)}) m",
        scope="project",
        reason="float32 keeps more digits near the origin",
        operation=Operation(name="scene.move", params={"by_m": by}),
    )
    kept = ("cameras, lights and viewpoints move along; what refers to places from outside the build must be told",)
    return Candidate(
        change=change,
        predicts="coordinates are small, so that their steps are",
        costs=(Cost("memory", 0.0, "bytes"),),
        side_effects=kept,
    )


FAMILY = register(
    Family(
        "far from the origin",
        (
            Code(
                code=CODE,
                words="Coordinates so large that float32 moves things visibly",
                kind="Surface",
                symptom="trembling",
                limit="a step of a float32 coordinate may move a thing by a twentieth of a pixel",
            ),
        ),
        observe,
        conclude,
    )
)

"""depth.coincident: faces so close together that the depth buffer cannot tell them apart, counted at the pixels of each viewpoint."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey
from eddyfall.core.passes.contract import View
from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.raster.layers import two_nearest
from eddyfall.core.scene.changes import Change, Operation, set_leaf, set_resolved
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.names import short_id
from eddyfall.core.scene.setup.sections.depth import Depth
from eddyfall.core.uv.coplanar import PARALLEL, on_one_plane, one_plane_m, shared_area

CODE = "depth.coincident"
LEAST_PIXELS = 4
CODES_ASTRAY = 64.0
MOST_PICTURES = 16  # pairs that get an evidence picture, the worst first


@dataclass(frozen=True)
class Contest:
    """Two drawables that contest pixels at one viewpoint: gaps along the normal (m), gap that would part them, farthest depth, how far
    their plane lies from the eye; rows and columns of the pixels."""

    pixels: int
    region: tuple[int, int, int, int]
    gaps_m: np.ndarray
    needed_m: float
    depth_m: float
    normal: np.ndarray
    eye_off_m: float
    at: tuple[np.ndarray, np.ndarray]


Pairs = dict[tuple[int, int], Contest]


def observe(survey: Survey, viewpoint: str) -> Pairs:
    """By pair of drawables: pixels at which two parallel faces tie or come out in the wrong order."""
    frame = survey.frame(viewpoint, "screen")
    geometry, depth = frame.geometry, frame.depth_format
    screen = frame.buffers["screen"]
    keys, found = two_nearest(
        screen,
        geometry.owner,
        frame.stage.state.solid,
        frame.buffers["cutouts"],
        depth.code,
        frame.pixels.shape,
        frame.pixels.origin,
    )
    both = found[..., 1] >= 0
    # Codes of faces in one place stray this far apart, since depth is interpolated in float32; which are, the planes decide below.
    front = np.where(both, keys[..., 0], np.float32(1.0))
    tolerance = CODES_ASTRAY * (1.0 if depth.bits < 32 else np.spacing(np.abs(front)))
    close = both & (keys[..., 1] <= front + tolerance)
    rows, columns = np.nonzero(close)
    if not len(rows):
        return {}
    first, second = screen.ids[found[rows, columns, 0]], screen.ids[found[rows, columns, 1]]
    rays = View(frame.camera, frame.pixels).rays
    ox, oy = frame.pixels.origin
    direction = rays.d0 + (columns + ox + 0.5)[:, None] * rays.du + (rows + oy + 0.5)[:, None] * rays.dv
    n1, z1 = _plane_depth(geometry, first, rays.eye, direction)
    n2, z2 = _plane_depth(geometry, second, rays.eye, direction)
    parallel = np.abs((n1 * n2).sum(axis=1)) > PARALLEL
    tied = keys[rows, columns, 0] == keys[rows, columns, 1]
    apart = z2 - z1
    # A gap below the depth step is told apart by luck of the phase alone: a step of the camera, and it ties.
    wrong = apart < np.maximum(depth.step_m(z1), 2e-7 * z1)
    bad = (first != second) & parallel & (tied | wrong)
    facing = np.abs((n1 * direction).sum(axis=1))
    if not bad.any():
        return {}
    owners = np.sort(np.stack([geometry.owner[first], geometry.owner[second]], axis=1), axis=1)[bad].astype(np.int64)
    rows, columns, n1, z1, facing, direction = (v[bad] for v in (rows, columns, n1, z1, facing, direction))
    gap, needed, off = np.abs(apart[bad]) * facing, depth.step_m(z1) * facing, np.abs(z1) * facing
    # All pixels of a pair side by side, so that thousands of pairs cost no more than one.
    group = owners[:, 0] * len(geometry.drawables) + owners[:, 1]
    order = np.argsort(group, kind="stable")
    starts = np.flatnonzero(np.append(True, np.diff(group[order]) != 0))
    pairs: Pairs = {}
    for start, end in zip(starts, np.append(starts[1:], len(order))):
        mine = order[start:end]
        at = (rows[mine], columns[mine])
        region = (int(at[1].min()), int(at[0].min()), int(np.ptp(at[1])) + 1, int(np.ptp(at[0])) + 1)
        pairs[int(owners[mine[0], 0]), int(owners[mine[0], 1])] = Contest(
            len(mine), region, gap[mine], float(needed[mine].max()), float(z1[mine].max()), _towards_eye(n1, direction, mine[0]),
            float(np.median(off[mine])), at,
        )  # fmt: skip
    return pairs


def conclude(survey: Survey, seen: dict[str, Pairs]) -> list[Suspicion]:
    """One suspicion for each pair of drawables with contested pixels, and for each that lies on one plane unseen."""
    by_pair: dict[tuple[int, int], dict[str, Contest]] = {}
    for viewpoint, pairs in seen.items():
        for key, contest in pairs.items():
            by_pair.setdefault(key, {})[viewpoint] = contest
    by_pair = {key: c for key, c in by_pair.items() if max(v.pixels for v in c.values()) >= LEAST_PIXELS}
    state = survey.stage().state
    solid = (state.solid == 1) & state.drawn & state.colour_pass
    solid[survey.geometry.plate] = False
    for pair in survey.derive(on_one_plane, survey.renderer.packed(survey.build), solid, state.double_sided):
        by_pair.setdefault(pair, {})
    near = _larger_near(survey) if survey.pictures and any(by_pair.values()) else None
    worst = set(sorted(by_pair, key=lambda pair: -max((c.pixels for c in by_pair[pair].values()), default=0))[:MOST_PICTURES])
    return [_suspicion(survey, pair, contests, near, pair in worst) for pair, contests in sorted(by_pair.items())]


def _towards_eye(normal: np.ndarray, direction: np.ndarray, i: int) -> np.ndarray:
    """Normal i, turned to the side the eye is on: double-sided faces may be seen from behind."""
    return np.asarray(normal[i] if normal[i] @ direction[i] < 0 else -normal[i])


def _plane_depth(
    geometry: Geometry, triangle: np.ndarray, eye: np.ndarray, direction: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """(unit normal (n, 3), view depth (n,)) of triangles' planes along rays whose view depth is 1, in float64."""
    corners = geometry.positions[geometry.triangles[triangle]].astype(np.float64)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    along = (normal * direction).sum(axis=1)
    return normal, ((corners[:, 0] - eye) * normal).sum(axis=1) / np.where(along == 0, 1e-300, along)


def _suspicion(survey: Survey, pair: tuple[int, int], seen: dict[str, Contest], near: float | None, shown: bool) -> Suspicion:
    a, b = pair
    geometry = survey.geometry
    names = tuple(sorted({geometry.drawables[a].name, geometry.drawables[b].name}))
    settings = survey.resolved(survey.viewpoints[0])[Depth]
    depth = DepthFormat(settings.format, settings.reversed, settings.near_m, settings.far_m)
    gaps = np.concatenate([c.gaps_m for c in seen.values()]) if seen else np.zeros(1)
    farthest = max((c.depth_m for c in seen.values()), default=1.0)
    view = max(seen, key=lambda v: seen[v].pixels, default=None)
    worst = seen[view] if view is not None else None
    gap = float(np.median(gaps))
    gap = 0.0 if gap <= one_plane_m(geometry) else gap  # what float32 leaves of a gap of nothing
    normal = worst.normal if worst else _shared_normal(geometry, a)
    area = shared_area(geometry, a, b, normal, float(gaps.max())) if survey.pictures else 0.0
    contested = float(worst.pixels if worst else 0)
    evidence = [
        Evidence(
            measure="pixels where neither face wins for sure",
            value=contested,
            unit="px",
            limit=float(LEAST_PIXELS - 1),
            source="depth codes tied or out of order",
            picture=_picture(survey, view, worst.at) if view is not None and worst is not None and shown else None,
        ),
        Evidence(
            measure="gap between the faces", value=gap * 1000, unit="mm", limit=None, source="median over the contested pixels"
        ),
        Evidence(measure="area shared", value=area, unit="m²"),
    ]
    if worst:
        step = float(depth.step_m(farthest)) * 1000
        evidence.append(
            Evidence(
                measure="depth step at the farthest contested pixel",
                value=step,
                unit="mm",
                limit=None,
                source=f"{depth.format}, near {depth.near_m:g} m",
                picture=None,
                predicted=True,
            )
        )
        reach = depth.separable_to_m(gap)
        if math.isfinite(reach):
            evidence.append(
                Evidence(
                    measure="faces turned to the camera are told apart up to",
                    value=reach,
                    unit="m",
                    limit=None,
                    source="z = sqrt(g n 2^b)",
                    picture=None,
                    predicted=True,
                )
            )
        # A plane seen at a slant: the gap along a pixel's ray is g z / h, so it is told apart up to z = g n 2^b / h.
        slanted = depth.separable_to_m(gap, max(worst.eye_off_m, 1e-9))
        if worst.eye_off_m < 0.5 * worst.depth_m and math.isfinite(slanted):
            words = f"seen from {worst.eye_off_m:.3g} m off their plane, they are told apart up to"
            evidence.append(
                Evidence(
                    measure=words, value=slanted, unit="m", limit=None, source="z = g n 2^b / h", picture=None, predicted=True
                )
            )
    return Suspicion(
        code=CODE,
        cause_kind="drawables",
        cause=" + ".join(names),
        title=f"{' and '.join(names)} lie in one place and flicker"
        if a != b
        else f"faces of {names[0]} lie in one place and flicker",
        subjects=names,
        value=contested if worst else float(LEAST_PIXELS),
        limit=float(LEAST_PIXELS - 1),
        evidence=tuple(evidence),
        pixels={v: c.pixels for v, c in seen.items()},
        regions={v: c.region for v, c in seen.items()},
        candidates=tuple(_candidates(survey, a, b, max((c.needed_m for c in seen.values()), default=0.0), normal, gap, near))
        if survey.pictures
        else (),
        facts={"gap_m": gap, "area_m2": area},
    )


def _picture(survey: Survey, viewpoint: str, at: tuple[np.ndarray, np.ndarray]) -> np.ndarray | None:
    """The frame with the contested pixels marked."""
    if not survey.pictures:
        return None
    mask = np.zeros((survey.size[1], survey.size[0]), bool)
    mask[at] = True
    return survey.painted(viewpoint, mask)


def _shared_normal(geometry: Geometry, drawable: int) -> np.ndarray:
    d = geometry.drawables[drawable]
    corners = geometry.positions[geometry.triangles[d.first : d.last]].astype(np.float64)
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    largest = normals[np.argmax(np.linalg.norm(normals, axis=1))]
    return np.asarray(largest / max(float(np.linalg.norm(largest)), 1e-300))


def _candidates(
    survey: Survey, a: int, b: int, needed_m: float, normal: np.ndarray, gap: float, near: float | None
) -> list[Candidate]:
    geometry = survey.geometry
    free = (Cost("memory", 0.0, "bytes"),)
    result = []
    sizes = {d: float(survey.areas_m2[d]) for d in (a, b)}
    upper = min((a, b), key=lambda d: (sizes[d], d))
    node = geometry.drawables[upper].node
    if geometry.drawables[a].node != geometry.drawables[b].node:
        unit = 1e-3 * min(1.0, geometry.diagonal_m / 10)  # a millimetre, less in a scene of less than ten metres
        lift = max(math.ceil((1.5 * needed_m + unit) / unit) * unit, 2 * unit)
        by = [float(f"{float(v) * lift:.6g}") for v in normal]
        change = Change(
            id=short_id(f"node.move:{node}"),
            title=f"move {node} out of the plane by {lift * 1000:.4g} mm",
            scope="node",
            reason="faces on one plane cannot be told apart",
            operation=Operation(name="node.move", params={"node": node, "by_m": by}),
        )
        result.append(
            Candidate(
                change=change,
                predicts=f"its face lies {lift * 1000:.4g} mm in front",
                costs=(Cost("memory", 0.0, "bytes"),),
                side_effects=(f"{node} and all it carries moves by {lift * 1000:.4g} mm",),
            )
        )
        triangles = survey.triangles_of_node.get(node, 0)
        hide = set_leaf(survey.build, ("nodes", node, "drawn"), False, scope="node", title=f"do not draw {node}",
                        reason="the other face is enough")  # fmt: skip
        result.append(
            Candidate(
                change=hide,
                predicts="only one face is left",
                costs=(Cost("triangles saved", float(triangles), "triangles"),),
                side_effects=(f"all of {node} disappears, its sides too",),
                warnings=(f"{node} is gone",),
            )
        )
    resolved = survey.resolved(survey.viewpoints[0])
    depth = resolved[Depth]
    if gap > 0 and near is not None:
        change = set_resolved(
            survey.build, resolved, {"depth.near_m": near}, title=f"near plane {near:g} m",
            reason="nothing stands nearer, and depth steps shrink as the near plane grows",
        )  # fmt: skip
        result.append(
            Candidate(change=change, predicts="half the distance of the nearest thing that any viewpoint shows", costs=free)
        )
    if gap > 0 and not (depth.format == "float32" and depth.reversed):
        change = set_resolved(
            survey.build,
            resolved,
            {"depth.format": "float32", "depth.reversed": True},
            title="reversed float depth",
            reason="the gap is there, the depth buffer is too coarse for it",
        )
        width, height = survey.size
        extra = {"unorm16": 2, "unorm24": 0, "float32": 0}[depth.format] * width * height
        result.append(
            Candidate(
                change=change,
                predicts="depth steps far below the gap at all distances",
                costs=(Cost("memory", float(extra), "bytes"),),
            )
        )
    return result


def _larger_near(survey: Survey) -> float | None:
    """Half the view depth of the nearest thing that any viewpoint of the build shows, if that is well beyond the near plane."""
    nearest = survey.derive(
        nearest_m, *[survey.whole(v).known("depth") for v in survey.build.setup.viewpoints], survey.depth_format
    )
    value = float(f"{min(nearest * 0.5, 1000.0):.2g}") if math.isfinite(nearest) else 0.0
    return value if value > 1.5 * survey.depth_format.near_m else None


def nearest_m(*depths: Any) -> float:
    """Smallest view depth in metres in depth buffers (h, w), whose format comes last."""
    *buffers, depth = depths
    return min((float(depth.view_depth(np.array(b.min())))) for b in buffers) if buffers else math.inf


FAMILY = register(
    Family(
        "coincident faces",
        (
            Code(
                code=CODE,
                words="Faces in one place flicker, since the depth buffer cannot tell them apart",
                kind="Depth",
                symptom="flicker",
                limit="two faces must lie two steps of the depth buffer apart where both are seen",
            ),
        ),
        observe,
        conclude,
    )
)

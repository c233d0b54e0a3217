"""depth.coincident: faces so close together that the depth buffer cannot tell them apart, counted at the pixels of each viewpoint."""

import math
from dataclasses import dataclass

import numpy as np
from numba import njit, prange

from eddyfall.core.defects.contract import Candidate, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, painted, region_of
from eddyfall.core.passes.contract import View
from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.raster.layers import two_nearest
from eddyfall.core.scene.changes import Change, Operation, set_leaf, set_leaves
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.uv.overlap import colliding_pairs, pair_areas

CODE = "depth.coincident"
PARALLEL = math.cos(math.radians(0.1))
LEAST_PIXELS = 4
ONE_PLANE_M = 1e-5


@dataclass(frozen=True)
class Contest:
    """Two drawables that contest pixels at one viewpoint: gaps along the normal (m), gap that would part them, farthest depth."""

    pixels: int
    region: tuple[int, int, int, int]
    gaps_m: np.ndarray
    needed_m: float
    depth_m: float
    normal: np.ndarray
    picture: np.ndarray


Pairs = dict[tuple[int, int], Contest]


def observe(survey: Survey, viewpoint: str) -> Pairs:
    """By pair of drawables: pixels at which two parallel faces tie or come out in the wrong order."""
    frame = survey.frame(viewpoint, "screen")
    geometry, depth = frame.geometry, frame.depth_format
    screen = frame.buffers["screen"]
    keys, found = two_nearest(
        screen, geometry.owner, frame.stage.state.solid, frame.buffers["cutouts"], depth.code, frame.pixels.shape, frame.pixels.origin
    )
    both = found[..., 1] >= 0
    tolerance = 3.0 if depth.bits < 32 else 2e-6 * np.maximum(np.abs(np.where(both, keys[..., 0], 1.0)), 1e-6)
    close = both & (np.where(both, keys[..., 1], np.inf) <= np.where(both, keys[..., 0], 0.0) + tolerance)
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
    wrong = (apart < 0) | (np.abs(apart) < 2e-7 * np.maximum(z1, 1e-9))
    bad = (first != second) & parallel & (tied | wrong)
    facing = np.abs((n1 * direction).sum(axis=1))
    owners = np.sort(np.stack([geometry.owner[first], geometry.owner[second]], axis=1), axis=1)
    pairs: Pairs = {}
    display = survey.frame(viewpoint, "display").display if bad.any() else None
    for a, b in sorted({(int(row[0]), int(row[1])) for row in owners[bad]}):
        mine = bad & (owners[:, 0] == a) & (owners[:, 1] == b)
        mask = np.zeros(frame.pixels.shape, bool)
        mask[rows[mine], columns[mine]] = True
        needed = float((depth.step_m(z1[mine]) * facing[mine]).max())
        pairs[a, b] = Contest(
            int(mine.sum()), region_of(mask), (np.abs(apart) * facing)[mine], needed, float(z1[mine].max()),
            n1[np.flatnonzero(mine)[0]], painted(display, mask),
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
    solid = (state.blend < 2) & state.drawn & state.colour_pass
    solid[survey.geometry.plate] = False
    for key in on_one_plane(survey.geometry, solid, state.double_sided):
        by_pair.setdefault(key, {})
    return [_suspicion(survey, a, b, contests) for (a, b), contests in sorted(by_pair.items())]


def _plane_depth(geometry: Geometry, triangle: np.ndarray, eye: np.ndarray, direction: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(unit normal (n, 3), view depth (n,)) of triangles' planes along rays whose view depth is 1, in float64."""
    corners = geometry.positions[geometry.triangles[triangle]].astype(np.float64)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    along = (normal * direction).sum(axis=1)
    return normal, ((corners[:, 0] - eye) * normal).sum(axis=1) / np.where(along == 0, 1e-300, along)


def on_one_plane(geometry: Geometry, solid: np.ndarray, double_sided: np.ndarray) -> set[tuple[int, int]]:
    """Pairs of different solid drawables with overlapping faces within 0.01 mm of one plane that face the same way."""
    chosen = np.flatnonzero(solid[geometry.owner])
    corners = geometry.positions[geometry.triangles[chosen]].astype(np.float64)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(normal, axis=1)
    keep = size > 1e-10
    chosen, corners, normal = chosen[keep], corners[keep], normal[keep] / size[keep][:, None]
    if len(chosen) < 2:
        return set()
    entry, cell = _normal_cells(normal)
    low, high = corners.min(axis=1), corners.max(axis=1)
    axis = int(np.argmax(low.max(axis=0) - low.min(axis=0)))
    order = np.lexsort((low[entry, axis], cell))
    entry, cell = entry[order], cell[order]
    axes = [axis, (axis + 1) % 3, (axis + 2) % 3]
    found = _coplanar(
        cell, np.ascontiguousarray(low[entry][:, axes]), np.ascontiguousarray(high[entry][:, axes]), np.ascontiguousarray(normal[entry]),
        np.ascontiguousarray(corners[entry]), geometry.owner[chosen[entry]].astype(np.int64),
        double_sided[geometry.owner[chosen[entry]]].astype(np.uint8), PARALLEL, ONE_PLANE_M,
    )  # fmt: skip
    found = chosen[entry[found[found[:, 0] >= 0]]]
    result: dict[tuple[int, int], list[tuple[int, int]]] = {}
    for t, u in {(int(i), int(j)) for i, j in found}:
        first, second = sorted((int(geometry.owner[t]), int(geometry.owner[u])))
        result.setdefault((first, second), []).append((t, u))
    return {key for key, tris in result.items() if _overlap_area(geometry, tris) > 1e-4}


def _normal_cells(normal: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(entries, cells): triangles sorted into cells of like normals, sign ignored, on an octahedral map; one near a border is
    entered on both sides of it, so that parallel faces always share a cell."""
    grid, margin = 64, 0.12
    largest = np.take_along_axis(normal, np.abs(normal).argmax(axis=1)[:, None], axis=1)
    n = normal * np.where(largest < 0, -1.0, 1.0)
    n = n / np.abs(n).sum(axis=1, keepdims=True)
    fold = n[:, 2] < 0
    uv = np.where(fold[:, None], (1 - np.abs(n[:, [1, 0]])) * np.where(n[:, :2] >= 0, 1.0, -1.0), n[:, :2])
    # Shifted by a third of a cell, so that axis-aligned faces do not lie on borders.
    at = (uv + 1) * (grid / 2) + 1 / 3
    entries, cells = [], []
    for du in (-margin, margin):
        for dv in (-margin, margin):
            c = np.floor(at + [du, dv]).astype(np.int64)
            entries.append(np.arange(len(n)))
            cells.append(c[:, 0] * (grid + 2) + c[:, 1])
    cell_count = (grid + 2) ** 2
    both = np.unique(np.concatenate(entries) * cell_count + np.concatenate(cells))
    return both // cell_count, both % cell_count


@njit(cache=True, parallel=True, nogil=True)
def _coplanar(cell, low, high, normal, corners, owner, double_sided, parallel, limit):
    """(64 n, 2) int64 pairs of triangles of different owners whose boxes touch and planes coincide; -1 where unused."""
    n = low.shape[0]
    parts = 64
    room = max(1024, n // 8)
    out = np.full((parts * room, 2), -1, np.int64)
    chunk = (n + parts - 1) // parts
    for part in prange(parts):
        made = part * room
        for i in range(part * chunk, min((part + 1) * chunk, n)):
            for j in range(i + 1, n):
                if cell[j] != cell[i] or low[j, 0] > high[i, 0] + limit:
                    break
                if owner[i] == owner[j] or low[j, 1] > high[i, 1] + limit or low[i, 1] > high[j, 1] + limit:
                    continue
                if low[j, 2] > high[i, 2] + limit or low[i, 2] > high[j, 2] + limit:
                    continue
                d = normal[i, 0] * normal[j, 0] + normal[i, 1] * normal[j, 1] + normal[i, 2] * normal[j, 2]
                if abs(d) < parallel or (d < 0 and double_sided[i] == 0 and double_sided[j] == 0):
                    continue
                gap = 0.0
                for k in range(3):
                    g = 0.0
                    for c in range(3):
                        g += normal[i, c] * (corners[j, k, c] - corners[i, 0, c])
                    gap = max(gap, abs(g))
                if gap <= limit and made < (part + 1) * room:
                    out[made, 0], out[made, 1] = i, j
                    made += 1
    return out


def _overlap_area(geometry: Geometry, pairs: list[tuple[int, int]]) -> float:
    """Area in m^2 shared by pairs of coplanar triangles, in the plane of the first."""
    if not pairs:
        return 0.0
    ids = np.unique(np.array(pairs).reshape(-1))
    corners = geometry.positions[geometry.triangles[ids]].astype(np.float64)
    a = corners[np.searchsorted(ids, pairs[0][0])]
    e1 = a[1] - a[0]
    e1 /= np.linalg.norm(e1)
    normal = np.cross(e1, a[2] - a[0])
    normal /= np.linalg.norm(normal)
    flat = (corners - a[0]) @ np.stack([e1, np.cross(normal, e1)], axis=1)
    turn = (flat[:, 1, 0] - flat[:, 0, 0]) * (flat[:, 2, 1] - flat[:, 0, 1]) - (flat[:, 2, 0] - flat[:, 0, 0]) * (flat[:, 1, 1] - flat[:, 0, 1])
    flat = np.ascontiguousarray(np.where((turn < 0)[:, None, None], flat[:, [0, 2, 1]], flat))
    index = np.searchsorted(ids, np.array(pairs))
    return float(pair_areas(flat, np.ascontiguousarray(index)).sum())


def shared_area(geometry: Geometry, a: int, b: int, normal: np.ndarray, gap_m: float) -> float:
    """Area in m^2 over which faces of drawables a and b that are square to `normal` lie within the gap of each other."""
    ids = []
    for d in {a, b}:
        span = np.arange(geometry.drawables[d].first, geometry.drawables[d].last)
        corners = geometry.positions[geometry.triangles[span]].astype(np.float64)
        n = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300)
        ids.append(span[np.abs(n @ normal) > PARALLEL])
    tris = np.concatenate(ids)
    if len(tris) < 2:
        return 0.0
    corners = geometry.positions[geometry.triangles[tris]].astype(np.float64)
    ref = np.array([1.0, 0, 0]) if abs(normal[0]) < 0.9 else np.array([0, 1.0, 0])
    e1 = np.cross(normal, ref)
    e1 /= np.linalg.norm(e1)
    flat = corners @ np.stack([e1, np.cross(normal, e1)], axis=1)
    turn = (flat[:, 1, 0] - flat[:, 0, 0]) * (flat[:, 2, 1] - flat[:, 0, 1]) - (flat[:, 2, 0] - flat[:, 0, 0]) * (flat[:, 1, 1] - flat[:, 0, 1])
    flat = np.ascontiguousarray(np.where((turn < 0)[:, None, None], flat[:, [0, 2, 1]], flat))
    pairs = colliding_pairs(flat, 1e-9)
    height = (corners @ normal).mean(axis=1)
    owner = geometry.owner[tris]
    near = np.abs(height[pairs[:, 0]] - height[pairs[:, 1]]) <= gap_m + 1e-4
    across = near if a == b else near & (owner[pairs[:, 0]] != owner[pairs[:, 1]])
    return float(pair_areas(flat, np.ascontiguousarray(pairs[across])).sum())


def _suspicion(survey: Survey, a: int, b: int, seen: dict[str, Contest]) -> Suspicion:
    geometry = survey.geometry
    names = tuple(sorted({geometry.drawables[a].name, geometry.drawables[b].name}))
    settings = survey.resolved(survey.viewpoints[0]).depth
    depth = DepthFormat(settings.format, settings.reversed, settings.near_m, settings.far_m)
    gaps = np.concatenate([c.gaps_m for c in seen.values()]) if seen else np.zeros(1)
    farthest = max((c.depth_m for c in seen.values()), default=1.0)
    worst = max(seen.values(), key=lambda c: c.pixels, default=None)
    gap = float(np.median(gaps))
    gap = 0.0 if gap < 2e-6 * max(farthest, 1.0) else gap
    normal = worst.normal if worst else _shared_normal(geometry, a)
    area = shared_area(geometry, a, b, normal, float(gaps.max()))
    contested = float(worst.pixels if worst else 0)
    evidence = [
        Evidence("pixels where neither face wins for sure", contested, "px", float(LEAST_PIXELS - 1), "depth codes tied or out of order",
                 worst.picture if worst else None),
        Evidence("gap between the faces", gap * 1000, "mm", None, "median over the contested pixels"),
        Evidence("area shared", area, "m²"),
    ]  # fmt: skip
    if worst:
        step = float(depth.step_m(farthest)) * 1000
        evidence.append(Evidence("depth step at the farthest contested pixel", step, "mm", None, f"{depth.format}, near {depth.near_m:g} m", None, True))
        reach = depth.separable_to_m(gap)
        if math.isfinite(reach):
            evidence.append(Evidence("faces turned to the camera are told apart up to", reach, "m", None, "z = sqrt(g n 2^b)", None, True))
    return Suspicion(
        CODE, "drawables", " + ".join(names), f"{' and '.join(names)} lie in one place and flicker", names,
        contested if worst else float(LEAST_PIXELS), float(LEAST_PIXELS - 1), tuple(evidence), {v: c.pixels for v, c in seen.items()},
        {v: c.region for v, c in seen.items()},
        tuple(_candidates(survey, a, b, max((c.needed_m for c in seen.values()), default=0.0), normal, gap)),
        facts={"gap_m": gap, "area_m2": area},
    )  # fmt: skip


def _shared_normal(geometry: Geometry, drawable: int) -> np.ndarray:
    d = geometry.drawables[drawable]
    corners = geometry.positions[geometry.triangles[d.first : d.last]].astype(np.float64)
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    largest = normals[np.argmax(np.linalg.norm(normals, axis=1))]
    return np.asarray(largest / max(float(np.linalg.norm(largest)), 1e-300))


def _candidates(survey: Survey, a: int, b: int, needed_m: float, normal: np.ndarray, gap: float) -> list[Candidate]:
    geometry = survey.geometry
    result = []
    sizes = {d: _area(geometry, d) for d in (a, b)}
    upper = min((a, b), key=lambda d: (sizes[d], d))
    node = geometry.drawables[upper].node
    if geometry.drawables[a].node != geometry.drawables[b].node:
        lift = max(math.ceil((1.5 * needed_m + 1e-3) * 1000) / 1000, 0.002)
        by = [round(float(v) * lift, 6) for v in normal]
        change = Change(
            id=f"node.move:{node}", title=f"move {node} out of the plane by {lift * 1000:g} mm", scope="node",
            reason="faces on one plane cannot be told apart", operation=Operation(name="node.move", params={"node": node, "by_m": by}),
        )  # fmt: skip
        result.append(Candidate(change, f"its face lies {lift * 1000:g} mm in front", (Cost("memory", 0.0, "bytes"),),
                                (f"{node} and all it carries moves by {lift * 1000:g} mm",)))  # fmt: skip
        triangles = sum(d.last - d.first for d in geometry.drawables if d.node == node)
        hide = set_leaf(survey.build, ("nodes", node, "drawn"), False, scope="node", title=f"do not draw {node}",
                        reason="the other face is enough")  # fmt: skip
        result.append(Candidate(hide, "only one face is left", (Cost("triangles saved", float(triangles), "triangles"),),
                                (f"all of {node} disappears, its sides too",), (f"{node} is gone",)))  # fmt: skip
    depth = survey.build.setup.depth
    if gap > 0 and not (depth.format == "float32" and depth.reversed):
        change = set_leaves(survey.build, {("depth", "format"): "float32", ("depth", "reversed"): True}, scope="project",
                            title="reversed float depth", reason="the gap is there, the depth buffer is too coarse for it")  # fmt: skip
        width, height = survey.size
        extra = {"unorm16": 2, "unorm24": 0, "float32": 0}[depth.format] * width * height
        result.append(Candidate(change, "depth steps far below the gap at all distances", (Cost("memory", float(extra), "bytes"),)))
    return result


def _area(geometry: Geometry, drawable: int) -> float:
    d = geometry.drawables[drawable]
    corners = geometry.positions[geometry.triangles[d.first : d.last]].astype(np.float64)
    return float(0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum())


FAMILY = register(Family("coincident faces", {CODE: "Faces in one place flicker, since the depth buffer cannot tell them apart"}, observe, conclude))

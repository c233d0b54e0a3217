"""face.seen-from-behind: faces that a viewpoint sees from the side that is not drawn. face.winding: neighbours that face apart."""

from typing import Any

import numpy as np

from eddyfall.core.compare.ciede2000 import changed_share
from eddyfall.core.defects.contract import LEAST_SHOWN, Candidate, Code, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey
from eddyfall.core.defects.uv_charts import mesh_operation
from eddyfall.core.passes.contract import View
from eddyfall.core.scene.changes import Change, apply_change, set_leaf
from eddyfall.core.scene.model import Mesh
from eddyfall.core.uv.report import Edges, edges

STEP_PX = 4
LEAST_SHARE = 0.02  # of the drawable's rays
LEAST_RAYS = 12


def observe(survey: Survey, viewpoint: str) -> dict[int, tuple[int, int]]:
    """By drawable: (rays that meet it first from behind where that side is not drawn, rays that meet it first)."""
    frame = survey.frame(viewpoint, "drawable")
    state = frame.stage.state
    solid = state.drawn & state.colour_pass & ~state.blended & ~state.camera_hidden
    rays = survey.rays(frame, solid)
    height, width = frame.drawable.shape
    x, y = np.meshgrid(np.arange(STEP_PX // 2, width, STEP_PX), np.arange(STEP_PX // 2, height, STEP_PX))
    eye = View(frame.camera, frame.pixels).rays
    direction = eye.d0 + (x.reshape(-1, 1) + 0.5) * eye.du + (y.reshape(-1, 1) + 0.5) * eye.dv
    direction /= np.linalg.norm(direction, axis=1, keepdims=True)
    triangle, _ = rays.first_hit(np.tile(eye.eye, (len(direction), 1)), direction)
    met = triangle >= 0
    corners = frame.geometry.positions[frame.geometry.triangles[triangle[met]]].astype(np.float64)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    behind = (normal * direction[met]).sum(axis=1) > 0
    owner = frame.geometry.owner[triangle[met]]
    removed = behind & ~state.double_sided[owner]
    all_of, from_behind = np.bincount(owner, minlength=len(state.drawn)), np.bincount(owner[removed], minlength=len(state.drawn))
    return {int(d): (int(from_behind[d]), int(all_of[d])) for d in np.flatnonzero(from_behind)}


def conclude(survey: Survey, seen: dict[str, dict[int, tuple[int, int]]]) -> list[Suspicion]:
    """One suspicion a mesh whose faces are seen from behind, and one a mesh whose neighbours face apart."""
    geometry = survey.geometry
    by_mesh: dict[str, dict[str, Any]] = {}
    for viewpoint, counts in seen.items():
        for d, (behind, met) in counts.items():
            if behind < LEAST_RAYS or behind < LEAST_SHARE * met:
                continue
            entry = by_mesh.setdefault(geometry.drawables[d].mesh, {"pixels": {}, "drawables": set(), "share": 0.0})
            entry["pixels"][viewpoint] = entry["pixels"].get(viewpoint, 0) + behind * STEP_PX * STEP_PX
            entry["drawables"].add(d)
            entry["share"] = max(entry["share"], behind / met)
    result = [_seen(survey, mesh, entry) for mesh, entry in sorted(by_mesh.items())]
    return result + [s for s in (_winding(survey, key, i) for i, key in enumerate(survey.build.scene.mesh_keys)) if s is not None]


def _seen(survey: Survey, mesh: str, entry: dict[str, Any]) -> Suspicion:
    build, geometry = survey.build, survey.geometry
    drawables = sorted(entry["drawables"])
    triangles = sum(geometry.drawables[d].last - geometry.drawables[d].first for d in drawables)
    corners = geometry.positions[
        geometry.triangles[geometry.drawables[drawables[0]].first : geometry.drawables[drawables[0]].last]
    ]
    counted = edges(corners.astype(np.float64))
    material = geometry.drawables[drawables[0]].material
    candidates = []
    if material >= 0:
        key = build.scene.material_keys[material]
        change = set_leaf(
            build,
            ("materials", key, "double_sided"),
            True,
            scope="material",
            title=f"draw both sides of {key}",
            reason="its faces are seen from behind",
        )
        candidates.append(
            Candidate(
                change=change,
                predicts="both sides are drawn",
                costs=(Cost("triangles", 0.0, "triangles"),),
                side_effects=("other meshes with this material too",),
            )
        )
    path = ("meshes", mesh, "copies", "inner_side")
    thick = shell_thickness(build.scene.meshes[build.scene.mesh_keys.index(mesh)])
    shell = set_leaf(
        build,
        path,
        {"kind": "shell", "order": 900, "thickness_m": thick, "strip": "unwrapped", "uv_offset": [1.0, 0.0]},
        scope="mesh",
        title=f"give {mesh} an inner side, {thick:g} m in",
        reason="its faces are seen from behind",
    )
    candidates.append(
        Candidate(
            change=shell,
            predicts="it has a thickness",
            costs=(Cost("triangles", float(triangles + 2 * counted.boundary), "triangles"),),
            side_effects=("its lightmap needs room for the inner side and the edge strip",),
        )
    )
    backs = mesh_operation("face.add_backs", mesh, f"double the faces of {mesh}, turned round", "its faces are seen from behind")
    candidates.append(
        Candidate(
            change=backs,
            predicts="both sides are drawn",
            costs=(Cost("triangles", float(triangles), "triangles"),),
            side_effects=("its lightmap charts overlap by 100 % until they are packed anew",),
        )
    )
    evidence = (
        Evidence(
            measure="rays that meet removed faces",
            value=entry["share"] * 100,
            unit="%",
            limit=LEAST_SHARE * 100,
            source="of the rays that meet it first",
        ),
        Evidence(measure="boundary edges", value=float(counted.boundary), unit="edges", limit=None, source="welded by place"),
        Evidence(measure="triangles", value=float(triangles), unit="triangles"),
    )
    return Suspicion(
        code="face.seen-from-behind",
        cause_kind="mesh",
        cause=mesh,
        title=f"{mesh}: missing sides, seen from behind",
        subjects=tuple(geometry.drawables[d].name for d in drawables),
        value=entry["share"] * 100,
        limit=LEAST_SHARE * 100,
        evidence=evidence,
        pixels=entry["pixels"],
        regions={},
        candidates=tuple(candidates),
    )


def shell_thickness(mesh: Mesh) -> float:
    """Thickness in metres that suits a mesh: a 25th of its box's diagonal, at most 0.1 m, two digits (common practice)."""
    low = np.min([p.positions.min(axis=0) for p in mesh.primitives], axis=0)
    high = np.max([p.positions.max(axis=0) for p in mesh.primitives], axis=0)
    return min(0.1, float(f"{max(float(np.linalg.norm(high - low)) / 25, 1e-6):.2g}"))


def mesh_edges(mesh: Mesh) -> Edges:
    """How the faces of a mesh, all its parts together, meet along their edges."""
    return edges(np.concatenate([p.positions.astype(np.float64)[p.indices] for p in mesh.primitives]))


def _winding(survey: Survey, key: str, index: int) -> Suspicion | None:
    parts = survey.build.scene.meshes[index].primitives
    if not parts:
        return None
    memo = survey.derive(mesh_edges, survey.build.scene.meshes[index])
    if memo.inconsistent == 0 or memo.inconsistent > 0.5 * memo.total:
        return None
    geometry = survey.geometry
    members = [i for i, d in enumerate(geometry.drawables) if d.mesh == key]
    pixels = {}
    for v in survey.viewpoints:
        count = int(np.isin(survey.frame(v, "drawable").drawable, members).sum())
        if count:
            pixels[v] = count
    change = mesh_operation("face.rewind", key, f"turn the faces of {key} the same way round", "neighbours face apart")
    if not _matters(survey, key, change, pixels):
        return None
    return Suspicion(
        code="face.winding",
        cause_kind="mesh",
        cause=key,
        title=f"{key}: neighbouring faces face apart",
        subjects=tuple(geometry.drawables[i].name for i in members),
        value=float(memo.inconsistent),
        limit=0.0,
        evidence=(
            Evidence(
                measure="edges whose two faces run along them alike",
                value=float(memo.inconsistent),
                unit="edges",
                limit=0.0,
                source=f"of {memo.total} edges, welded by place",
            ),
        ),
        pixels=pixels,
        regions={},
        candidates=(Candidate(change=change, predicts="all faces point out", costs=(Cost("triangles", 0.0, "triangles"),)),),
    )


def _matters(survey: Survey, key: str, change: Change, pixels: dict[str, int]) -> bool:
    """Whether turned faces show in a frame, or take part in a bake. Those inside a thing, or drawn on both sides, harm nobody."""
    entry = survey.build.setup.meshes.get(key)
    if entry is not None and entry.lightmap_uv is not None:
        return True
    turned = survey.on(apply_change(survey.build, change))
    looks = ((survey.frame(v, "display").display, turned.frame(v, "display").display) for v in pixels)
    return any(changed_share(before, after) >= LEAST_SHOWN for before, after in looks)


FAMILY = Family(
    "face_sides",
    (
        Code(
            code="face.seen-from-behind",
            words="faces seen from the side that is not drawn",
            kind="Surface",
            symptom="missing sides",
            limit="2 % of the rays that meet a thing may meet a removed face first",
            sheet="lightmaps",
        ),
        Code(
            code="face.winding",
            words="neighbouring faces that face apart",
            kind="Surface",
            symptom="missing sides",
            limit="no edge may have two faces that run along it alike, where that shows or is baked",
            sheet="lightmaps",
        ),
    ),
    observe,
    conclude,
)
register(FAMILY)

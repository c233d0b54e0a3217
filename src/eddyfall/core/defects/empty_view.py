"""view.empty: a viewpoint at which nothing at all is drawn, so that nothing there can be judged; and why."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey
from eddyfall.core.intake.poses import direction, pose_around
from eddyfall.core.passes.frustum import in_frustum
from eddyfall.core.scene.changes import set_leaves, set_resolved
from eddyfall.core.scene.setup.sections.depth import Depth

CODE = "view.empty"
STANDARD = (20.0, 15.0)  # azimuth and elevation from which a viewpoint that looks away is turned to the scene


@dataclass(frozen=True)
class Empty:
    """Nothing is drawn. cause: the plane that cuts it off (a settings leaf), 'hidden', or 'looks away'; nearest_m, farthest_m: view
    depths of what would be in the frame."""

    cause: str
    subjects: frozenset[int]
    nearest_m: float
    farthest_m: float


def observe(survey: Survey, viewpoint: str) -> Empty | None:
    """None where anything is drawn."""
    frame = survey.frame(viewpoint, "drawable")
    if (frame.drawable >= 0).any():
        return None
    if (frame.stage.state.blend[frame.buffers["in_view"]] >= 2).any():
        layer = survey.frame(viewpoint, "linear").buffers["layer"]
        if (layer[..., :3] != 0).any() or (layer[..., 3:] != 1).any():
            return None
    state, camera, depth = frame.stage.state, frame.camera, frame.stage.resolved[Depth]
    shown = state.drawn & state.colour_pass
    shown[frame.geometry.plate] = False
    low, high = frame.geometry.bounds[:, 0], frame.geometry.bounds[:, 1]
    within = shown & in_frustum(camera, low, high, 0.0, None)
    near, far = math.inf, 0.0
    for d in np.flatnonzero(within):
        drawable = frame.geometry.drawables[d]
        vertices = np.unique(frame.geometry.triangles[drawable.first : drawable.last])
        z = camera.view_depth(frame.geometry.positions[vertices])
        z = z[z > 0]
        if len(z):
            near, far = min(near, float(z.min())), max(far, float(z.max()))
    if not shown.any():
        cause = "hidden"
    elif not math.isfinite(near):
        cause = "looks away"
    elif far < depth.near_m:
        cause = "depth.near_m"
    elif depth.far_m is not None and near > depth.far_m:
        cause = "depth.far_m"
    else:
        cause = "looks away" if not within.any() else "hidden"
    members = np.flatnonzero(within if within.any() else shown)
    return Empty(cause, frozenset(int(d) for d in members), near, far)


def conclude(survey: Survey, seen: dict[str, Empty | None]) -> list[Suspicion]:
    """One suspicion for each plane that leaves a viewpoint empty, one for each viewpoint that is empty for another reason."""
    groups: dict[tuple[str, str], dict[str, Empty]] = {}
    for viewpoint, empty in seen.items():
        if empty is not None:
            key = ("setting", empty.cause) if empty.cause.startswith("depth.") else ("viewpoint", viewpoint)
            groups.setdefault(key, {})[viewpoint] = empty
    return [_suspicion(survey, kind, cause, empties) for (kind, cause), empties in sorted(groups.items())]


def _suspicion(survey: Survey, kind: str, cause: str, empties: dict[str, Empty]) -> Suspicion:
    width, height = survey.size
    drawables = survey.geometry.drawables
    subjects = sorted({d for e in empties.values() for d in e.subjects})
    first = next(iter(empties.values()))
    depth = survey.resolved(next(iter(empties)))[Depth]
    why = {
        "depth.near_m": f"the near plane at {depth.near_m:g} m lies behind it all",
        "depth.far_m": f"the far plane at {depth.far_m} m lies before it all",
        "hidden": "what would be there is not drawn",
        "looks away": "it looks past everything",
    }[first.cause]
    evidence = [
        Evidence(
            measure="viewpoints that show nothing",
            value=float(len(empties)),
            unit="viewpoints",
            limit=0.0,
            source="a frame of the sky says nothing",
        )
    ]
    nearest = min(e.nearest_m for e in empties.values())
    if math.isfinite(nearest):
        evidence.append(Evidence(measure="nearest thing in the frame", value=nearest, unit="m"))
        evidence.append(
            Evidence(measure="farthest thing in the frame", value=max(e.farthest_m for e in empties.values()), unit="m")
        )
    return Suspicion(
        code=CODE,
        cause_kind=kind,
        cause=cause,
        title=f"{', '.join(list(empties)[:3])}: nothing is drawn, {why}",
        subjects=tuple(drawables[d].name for d in subjects[:50]),
        value=float(len(empties)),
        limit=0.0,
        evidence=tuple(evidence),
        pixels=dict.fromkeys(empties, width * height),
        regions=dict.fromkeys(empties, (0, 0, width, height)),
        candidates=tuple(_candidates(survey, kind, cause, empties)),
        content_lost=True,
    )


def _candidates(survey: Survey, kind: str, cause: str, empties: dict[str, Empty]) -> list[Candidate]:
    free = (Cost("memory", 0.0, "bytes"),)
    view, empty = next(iter(empties.items()))
    if kind == "setting":
        nearest = min(e.nearest_m for e in empties.values())
        value: Any = float(f"{max(nearest * 0.5, 1e-6):.3g}") if cause == "depth.near_m" else None
        title = f"near plane {value:g} m" if value is not None else "no far plane"
        change = set_resolved(survey.build, survey.resolved(view), {cause: value}, title=title, reason="it cuts off all there is")
        return [Candidate(change=change, predicts="what stands there is drawn", costs=free)]
    entry = survey.build.setup.viewpoints[view]
    if empty.cause != "looks away" or entry.camera is not None or not empty.subjects:
        return []
    bounds = survey.geometry.bounds[sorted(empty.subjects)]
    pose = pose_around(view, np.concatenate([bounds[:, 0], bounds[:, 1]]), direction(*STANDARD))
    leaves: dict[tuple[str, ...], Any] = {
        ("viewpoints", view, "eye"): list(pose.eye),
        ("viewpoints", view, "target"): list(pose.target),
    }
    change = set_leaves(survey.build, leaves, scope="viewpoint", title=f"turn {view} to the scene", reason="it shows nothing")
    return [Candidate(change=change, predicts="the scene is in its frame", costs=free)]


FAMILY = register(
    Family(
        "empty viewpoints",
        (
            Code(
                code=CODE,
                words="A viewpoint at which nothing is drawn",
                kind="Output",
                symptom="nothing drawn",
                limit="a play viewpoint must show something",
            ),
        ),
        observe,
        conclude,
    )
)

"""occlusion.twice: light from around that is dimmed twice for the same hollow: by the pass that looks for what stands near in the frame,
and by a lightmap or an occlusion map that holds it already.

Told by taking the pass away: with it a surface is darker than is due, without it not."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.scene.changes import Change, apply_change, set_resolved
from eddyfall.core.scene.setup.sections.screen import Occlusion
from eddyfall.core.shade.columns import OPEN
from eddyfall.core.truth.response.in_place import drawn_even, due_even, spread_over

CODE = "occlusion.twice"
LIMIT_STOPS = 0.25  # of a surface's light from around (ours, changeable)
LEAST_PIXELS = 400
DIMMED = 0.9  # of its light that an occlusion map leaves at the most, to count as one


@dataclass(frozen=True)
class Twice:
    """A surface at a viewpoint: stops that its light from around is darker than due with the pass, and off it without; by_map: its lightmap
    or its occlusion map holds the hollow; pixels, region, picture of it."""

    surface: str
    darker: float
    without: float
    by_map: str
    pixels: int
    region: tuple[int, int, int, int]
    picture: np.ndarray | None


def observe(survey: Survey, viewpoint: str) -> list[Twice]:
    """Surfaces that are dimmed twice there."""
    resolved = survey.resolved(viewpoint)
    if not resolved[Occlusion].enabled:
        return []
    frame = survey.frame(viewpoint)
    names, state = [d.name for d in frame.geometry.drawables], frame.stage.state
    count = np.bincount(frame.drawable[frame.drawable >= 0], minlength=len(names))
    suspects: dict[int, str] = {}
    for d in np.flatnonzero(count >= LEAST_PIXELS).tolist():
        mask = frame.drawable == d
        if float(frame.buffers["occluded"][mask].mean()) > 2.0**-LIMIT_STOPS:
            continue
        if state.mapped[d]:
            if resolved[Occlusion].applies_to == "indirect":
                suspects[d] = "its lightmap"
        elif float(frame.buffers["surface"][mask][:, OPEN].mean()) < DIMMED:
            suspects[d] = "its occlusion map"
    if not suspects:
        return []
    off = apply_change(survey.build, set_resolved(survey.build, resolved, {"occlusion.enabled": False}, title="occlusion off"))
    bare = drawn_even(survey.on(off).frame(viewpoint))
    pixels, of = spread_over(frame.drawable, suspects)
    due, clear = due_even(survey.renderer, survey.build, frame, survey.request(viewpoint), pixels, of)
    drawn = drawn_even(frame)
    found = []
    for d, by_map in suspects.items():
        mine = clear & (of == d)
        if not mine.any() or not (right := float(due[mine].mean())) > 0:
            continue
        y, x = pixels[mine, 1], pixels[mine, 0]
        darker, without = (float(np.log2(max(v[y, x].mean(), 1e-3 * right) / right)) for v in (drawn, bare))
        if darker < -LIMIT_STOPS and abs(without) < abs(darker):
            mask = frame.drawable == d
            found.append(
                Twice(names[d], -darker, without, by_map, int(mask.sum()), region_of(mask), survey.painted(viewpoint, mask))
            )
    return sorted(found, key=lambda t: -t.darker)


def conclude(survey: Survey, seen: dict[str, list[Twice]]) -> list[Suspicion]:
    """One suspicion for what lightmaps hold, one for what occlusion maps do."""
    kinds = sorted({t.by_map for found in seen.values() for t in found})
    return [_suspicion(survey, kind, seen) for kind in kinds]


def _suspicion(survey: Survey, kind: str, seen: dict[str, list[Twice]]) -> Suspicion:
    where = {v: mine for v, found in seen.items() if (mine := [t for t in found if t.by_map == kind])}
    view = max(where, key=lambda v: where[v][0].darker)
    worst = where[view][0]
    return Suspicion(
        code=CODE, cause_kind="setting", cause="occlusion.applies_to" if kind == "its lightmap" else "occlusion.enabled",
        title=f"{worst.surface} is dimmed twice at {view}: by the occlusion pass, and by {kind}",
        subjects=tuple(dict.fromkeys(t.surface for found in where.values() for t in found)), value=worst.darker, limit=LIMIT_STOPS,
        evidence=(
            Evidence(measure=f"stops that {worst.surface} gets too little light from around at {view}", value=worst.darker, unit="stops",
                     limit=LIMIT_STOPS, source="against light's paths", picture=worst.picture),
            Evidence(measure="off what is due without the pass", value=worst.without, unit="stops"),
        ),
        pixels={v: sum(t.pixels for t in found) for v, found in where.items()},
        regions={v: found[0].region for v, found in where.items()},
        candidates=tuple(Candidate(change=c, predicts=p) for c, p in _ways(survey, view)) if survey.pictures else (),
        facts={"viewpoint": view},
    )  # fmt: skip


def _ways(survey: Survey, viewpoint: str) -> Iterator[tuple[Change, str]]:
    resolved = survey.resolved(viewpoint)
    told: list[tuple[dict[str, Any], str, str]] = []
    if resolved[Occlusion].applies_to == "indirect":
        told.append(({"occlusion.applies_to": "sky"}, "occlusion leaves lightmaps alone", "what lightmaps hold is dimmed once"))
    told.append(({"occlusion.enabled": False}, "occlusion off", "what maps hold is dimmed once, all else not at all"))
    for leaves, title, predicts in told:
        yield set_resolved(survey.build, resolved, leaves, title=title), predicts


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """The same as single trials, while the pass is on."""
    if not survey.resolved(viewpoint)[Occlusion].enabled:
        return []
    because = "it dims light from around by what stands near in the frame"
    return [Lever(pass_name="occlusion", change=c, predicts=p, because=because) for c, p in _ways(survey, viewpoint)]


FAMILY = register(
    Family(
        "occlusion twice",
        (
            Code(
                code=CODE, words="Light from around is dimmed twice for the same hollow", kind="Light", sheet="light", symptom="too dark",
                limit=f"stops that a surface gets too little: {LIMIT_STOPS:g}",
            ),
        ),
        observe,
        conclude,
        levers,
        symptoms=("too dark",),
    )
)  # fmt: skip

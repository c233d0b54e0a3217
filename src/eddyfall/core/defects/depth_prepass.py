"""depth.missing-prepass: opaque things whose shader has no depth pass, so that fog looks up the depth of what is behind them."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.passes.contract import Stage, View
from eddyfall.core.scene.changes import Change, set_leaf, set_resolved
from eddyfall.core.scene.resolve import Resolved
from eddyfall.core.scene.setup.sections.depth import Depth
from eddyfall.core.scene.setup.sections.fog import Fog
from eddyfall.core.shade.fog import transmittance

CODE = "depth.missing-prepass"


def reads_prepass_copy(resolved: Resolved) -> bool:
    """Whether something reads a depth copy that is taken from the prepass."""
    return resolved[Fog].enabled and resolved[Fog].fog_per_m > 0 and resolved[Depth].copy_from == "prepass"


@dataclass(frozen=True)
class Misread:
    """What one shader's drawables look like from one viewpoint: pixels misread, distance errors (m), fog laid on too much (0..1)."""

    pixels: int
    region: tuple[int, int, int, int]
    errors_m: np.ndarray
    unbounded: int
    fog_excess: np.ndarray
    picture: np.ndarray | None


def observe(survey: Survey, viewpoint: str) -> dict[str, Misread] | None:
    """By shader: what fog misreads at this viewpoint. None where nothing reads a prepass copy."""
    if not reads_prepass_copy(survey.resolved(viewpoint)):
        return None
    frame = survey.frame(viewpoint, "drawable")
    mask, own, copied = misread(frame)
    missing = missing_drawables(frame.stage)
    mask &= missing[frame.drawable]
    if not mask.any():
        return {}
    sigma = frame.stage.resolved[Fog].fog_per_m
    result = {}
    for shader in sorted({frame.stage.state.shader[i] for i in np.unique(frame.drawable[mask])}):
        of_shader = np.array([name == shader for name in frame.stage.state.shader])
        mine = mask & of_shader[frame.drawable]
        far = np.isinf(copied[mine])
        excess = transmittance(own[mine], sigma) - transmittance(copied[mine], sigma)
        result[shader] = Misread(
            int(mine.sum()),
            region_of(mine),
            (copied[mine] - own[mine])[~far],
            int(far.sum()),
            excess,
            survey.painted(viewpoint, mine),
        )
    return result


def missing_drawables(stage: Stage) -> np.ndarray:
    """(d,) bool: drawn solid, but not in the prepass."""
    s = stage.state
    missing = (s.solid == 1) & ~s.depth_pass & s.colour_pass & s.drawn
    missing[-1] = False
    return np.asarray(missing)


def conclude(survey: Survey, seen: dict[str, dict[str, Misread] | None]) -> list[Suspicion]:
    """One suspicion for each shader that is drawn solid, is not in the prepass, and can be misread by a depth reader."""
    readers = {v: o for v, o in seen.items() if o is not None}
    if not readers:
        return []
    stage = survey.stage(next(iter(readers)))
    missing = missing_drawables(stage)
    shaders = sorted({stage.state.shader[i] for i in np.flatnonzero(missing)})
    return [
        _suspicion(survey, shader, missing, stage, {v: o[shader] for v, o in readers.items() if shader in o})
        for shader in shaders
    ]


def _suspicion(survey: Survey, shader: str, missing: np.ndarray, stage: Stage, seen: dict[str, Misread]) -> Suspicion:
    drawables = survey.geometry.drawables
    own = [i for i in np.flatnonzero(missing) if stage.state.shader[i] == shader]
    worst = max(seen.values(), key=lambda o: o.pixels, default=None)
    evidence = [
        Evidence(
            measure="solid drawables missing from the depth prepass",
            value=float(len(own)),
            unit="drawables",
            limit=0.0,
            source="static rule",
            picture=worst.picture if worst else None,
        ),
        Evidence(
            measure="pixels where fog reads a depth behind the surface",
            value=float(worst.pixels if worst else 0),
            unit="px",
            limit=0.0,
            source="main depth nearer by > 2 depth steps",
        ),
    ]
    errors = np.concatenate([o.errors_m for o in seen.values()]) if seen else np.zeros(0)
    if len(errors):
        evidence.append(Evidence(measure="fog distance too far, median", value=float(np.median(errors)), unit="m"))
        evidence.append(Evidence(measure="fog distance too far, largest", value=float(errors.max()), unit="m"))
    unbounded = sum(o.unbounded for o in seen.values())
    if unbounded:
        evidence.append(
            Evidence(
                measure="pixels over the sky, distance unbounded",
                value=float(unbounded),
                unit="px",
                limit=0.0,
                source="depth copy reads as far",
            )
        )
    if seen:
        excess = max(float(o.fog_excess.max()) for o in seen.values()) * 100
        evidence.append(
            Evidence(
                measure="fog laid on too much, largest",
                value=excess,
                unit="%",
                limit=2.0,
                source="about one just visible step (common practice)",
            )
        )
    keys = survey.build.scene.material_keys
    materials = sorted({keys[drawables[i].material] for i in own if drawables[i].material >= 0})
    triangles = sum(drawables[i].last - drawables[i].first for i in own)
    costs = (Cost("triangles drawn once more in the prepass", float(triangles), "triangles"), Cost("memory", 0.0, "bytes"))
    remedy = Candidate(
        change=write_prepass(survey, shader), predicts="its pixels fog at their own distance, whatever is behind", costs=costs
    )
    return Suspicion(
        code=CODE,
        cause_kind="shader",
        cause=shader,
        title=f"{shader}: solid things fade into what is behind them",
        subjects=tuple(drawables[i].name for i in own),
        value=float(len(own)),
        limit=0.0,
        evidence=tuple(evidence),
        pixels={v: o.pixels for v, o in seen.items()},
        regions={v: o.region for v, o in seen.items()},
        candidates=(remedy,),
        facts={"materials": materials},
    )


def misread(frame: Any) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(mask, own distance, distance in a prepass depth copy), (h, w), metres: main depth nearer by more than 2 depth steps."""
    depth = frame.depth_format
    lengths = View(frame.camera, frame.pixels).ray_lengths
    own, copied = frame.view_depth, depth.view_depth(frame.buffers["prepass_depth"])
    with np.errstate(invalid="ignore"):
        mask = (frame.drawable >= 0) & (copied - own > 2 * depth.step_m(np.where(np.isfinite(own), own, 1.0)))
    return mask, own * lengths, copied * lengths


def write_prepass(survey: Survey, shader: str) -> Change:
    """The change that gives a shader a depth pass."""
    return set_leaf(
        survey.build, ("shaders", shader, "passes", "depth"), True, scope="shader", title=f"write prepass depth ({shader})",
        reason="what it draws is solid, and fog reads the prepass depth",
    )  # fmt: skip


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """Give the subject's shader a depth pass; take the depth copy elsewhere."""
    stage = survey.stage(viewpoint)
    state = stage.state
    result = []
    copy_from = stage.resolved[Depth].copy_from
    if state.solid[subject] and not state.depth_pass[subject]:
        shader = state.shader[subject]
        result.append(
            Lever(
                "prepass",
                write_prepass(survey, shader),
                "fog finds the surface's own depth",
                f"shader {shader} has no depth pass",
            )
        )
    for value, predicts in (("opaque", "fog reads what is really in front"), ("none", "fog reads as far everywhere")):
        if copy_from != value:
            title = f"take the depth copy from: {value}"
            change = set_resolved(survey.build, stage.resolved, {"depth.copy_from": value}, title=title)
            result.append(Lever("fog", change, predicts, f"the depth copy is taken from: {copy_from}"))
    return result


FAMILY = register(
    Family(
        "depth prepass",
        (
            Code(
                code=CODE,
                words="Solid things missing from the depth prepass fade into what is behind them",
                kind="Depth",
                symptom="see-through",
                limit="no pixel of a solid thing may read the depth of what is behind it",
            ),
        ),
        observe,
        conclude,
        levers,
        ("see-through",),
    )
)

"""noise.samples: passes whose few rays leave more noise on a surface than the target allows (`budget.noise`); the symptom "noisy".

What a pass adds is held against what it tends to by more and more rays: what is left is its noise, whatever it is due."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.light_symptoms import same_light
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, set_resolved
from eddyfall.core.scene.setup.sections.budget import Budget
from eddyfall.core.truth.pass_noise import PASSES, in_window, noise_of

CODE = "noise.samples"
LEAST_PIXELS = 400
SURFACES = 8  # of a frame that are asked, the largest first


@dataclass(frozen=True)
class Noisy:
    """A pass at a viewpoint: surface on which it is noisiest, noise there over its mean luminance, surfaces beyond the limit; pixels,
    region and picture of them."""

    name: str
    surface: str
    noise: float
    limit: float
    surfaces: tuple[str, ...]
    pixels: int
    region: tuple[int, int, int, int]
    picture: np.ndarray | None


def observe(survey: Survey, viewpoint: str) -> list[Noisy]:
    """Passes that are noisier there than the target allows."""
    resolved = survey.resolved(viewpoint)
    limit = resolved[Budget].noise
    if not limit or not any(resolved[kind].enabled for kind, *_ in PASSES.values()):
        return []
    uncut = survey.renderer.uncut(survey.build, survey.request(viewpoint), "linear")
    frame = survey.frame(viewpoint)
    names = [d.name for d in frame.geometry.drawables]
    count = np.bincount(frame.drawable[frame.drawable >= 0], minlength=len(names))
    by_pass: dict[str, dict[int, float]] = {}
    for d in np.argsort(-count)[:SURFACES]:
        if count[d] < LEAST_PIXELS:
            continue
        for name, noise in noise_of(uncut, in_window(uncut, frame.drawable == d, (0, 0))).items():
            if noise > limit:
                by_pass.setdefault(name, {})[int(d)] = noise
    found = []
    for name, over in by_pass.items():
        mask = np.isin(frame.drawable, list(over))
        worst = max(over, key=lambda d: over[d])
        surfaces = tuple(names[d] for d in sorted(over, key=lambda d: -over[d]))
        picture = survey.painted(viewpoint, mask)
        found.append(Noisy(name, names[worst], over[worst], limit, surfaces, int(mask.sum()), region_of(mask), picture))
    return found


def conclude(survey: Survey, seen: dict[str, list[Noisy]]) -> list[Suspicion]:
    """One suspicion for each pass."""
    return [_suspicion(survey, name, seen) for name in sorted({n.name for found in seen.values() for n in found})]


def _suspicion(survey: Survey, name: str, seen: dict[str, list[Noisy]]) -> Suspicion:
    where = {v: n for v, found in seen.items() for n in found if n.name == name}
    view = max(where, key=lambda v: where[v].noise)
    worst = where[view]
    return Suspicion(
        code=CODE, cause_kind="pass", cause=name, title=f"{name} leaves {worst.noise:.0%} of noise on {worst.surface} at {view}",
        subjects=tuple(dict.fromkeys(s for n in where.values() for s in n.surfaces)), value=worst.noise, limit=worst.limit,
        evidence=(
            Evidence(measure=f"noise on {worst.surface} at {view}, over its mean", value=worst.noise, unit="share", limit=worst.limit,
                     source="budget.noise", picture=worst.picture),
        ),
        pixels={v: n.pixels for v, n in where.items()}, regions={v: n.region for v, n in where.items()},
        candidates=tuple(Candidate(change=c, predicts=p, costs=costs) for c, p, costs in ways(survey, name, view, worst))
        if survey.pictures else (),
        facts={"pass": name, "viewpoint": view},
    )  # fmt: skip


def ways(survey: Survey, name: str, viewpoint: str, worst: Noisy | None) -> Iterator[tuple[Change, str, tuple[Cost, ...]]]:
    """(change, what it does, what it costs): more rays, as many as noise that falls with their root needs; more rounds of the filter."""
    resolved = survey.resolved(viewpoint)
    setting = resolved[PASSES[name][0]]
    times = 16.0 if worst is None else float(np.ceil((worst.noise / worst.limit) ** 2 * 1.1))
    rays = int(min(setting.rays * max(times, 2), 256))
    if rays > setting.rays:
        change = set_resolved(survey.build, resolved, {f"{name}.rays": rays}, title=f"{name} of {rays} rays")
        per_frame = survey.size[0] * survey.size[1] // setting.divisor**2
        yield change, "noise falls with the root of their number", (Cost("rays", per_frame * (rays - setting.rays), "rays"),)
    if setting.rounds < 5:
        rounds = min(setting.rounds + 2, 5)
        change = set_resolved(survey.build, resolved, {f"{name}.rounds": rounds}, title=f"{name} filtered in {rounds} rounds")
        yield change, "neighbours on the same surface are averaged; what is fine is blurred", ()


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """The same of each pass that is on."""
    found = []
    for name, (kind, *_) in PASSES.items():
        if survey.resolved(viewpoint)[kind].enabled:
            for change, predicts, _ in ways(survey, name, viewpoint, None):
                found.append(Lever(pass_name=name, change=change, predicts=predicts, because=f"{name} sends few rays"))
    return found


def noisy(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Noise of all passes that send rays, over the mean luminance of the subject's pixels."""
    uncut = renderer.uncut(build, spot.request, "linear")
    x0, y0, *_ = spot.request.window
    found = noise_of(uncut, in_window(uncut, spot.pixels, (x0, y0)))
    return float(np.sqrt(sum(v * v for v in found.values())))


SYMPTOM = register_symptom(
    Symptom(
        name="noisy",
        unit="share",
        means="it shows the noise of passes that send few rays",
        score=noisy,
        clear_share=0.5,
        shares=same_light,
    )
)
FAMILY = register(
    Family(
        "noise",
        (
            Code(
                code=CODE, words="Few rays leave noise on a surface", kind="Light", sheet="light", symptom="noisy",
                limit="noise over a surface's mean: budget.noise; where none is set nothing is found",
            ),
        ),
        observe,
        conclude,
        levers,
        symptoms=("noisy",),
    )
)  # fmt: skip

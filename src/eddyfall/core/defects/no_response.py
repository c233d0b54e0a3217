"""bounce.no-response: things that do not answer light from around, as much as it is due there, by a fault of their own.

What is drawn far dimmer than the rest of the frame, for what it reflects, is held against light's paths; then each rival that could keep
light off it is put right and measured, singly and, if none suffices, two at once. Where light is missing around them, others say so."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.materials.swap import swap_shader
from eddyfall.core.scene.changes import Change, Op
from eddyfall.core.scene.names import short_id
from eddyfall.core.scene.setup import STOCK_SHADERS
from eddyfall.core.truth.response.alone import BROKEN, WEAK
from eddyfall.core.truth.response.in_place import DIM, InPlace, in_place, shown_of, usual_answer
from eddyfall.core.truth.response.rivals import TURNED, Cause, Rival, Tried, rivals_of, tried

CODE = "bounce.no-response"
ENOUGH_PLACES = 12


@dataclass(frozen=True)
class Silent:
    """A drawable that does not answer at a viewpoint; enough: R that would do there, half of what is usual; pixels, region and picture of
    it."""

    found: InPlace
    enough: float
    material: int
    pixels: int
    region: tuple[int, int, int, int]
    picture: np.ndarray | None


def observe(survey: Survey, viewpoint: str) -> list[Silent]:
    """Drawables that answer light from around with less than half of what is due."""
    frame = survey.frame(viewpoint)
    shown, state = shown_of(frame), frame.stage.state
    own = ~state.answers_ambient | (shown.open < DIM) | (shown.turned > TURNED)
    dim = [d for d in shown.dim() if own[d]]
    if not dim:
        return []
    enough = WEAK * usual_answer(survey.renderer, survey.build, survey.request(viewpoint), shown)
    silent = []
    for found in in_place(survey.renderer, survey.build, survey.request(viewpoint), dim):
        if found.places < ENOUGH_PLACES or found.answer >= enough:
            continue
        mask = frame.drawable == found.drawable
        material = frame.geometry.drawables[found.drawable].material
        silent.append(Silent(found, enough, material, int(mask.sum()), region_of(mask), survey.painted(viewpoint, mask)))
    return silent


def conclude(survey: Survey, seen: dict[str, list[Silent]]) -> list[Suspicion]:
    """One suspicion for each material."""
    found = []
    for material in sorted({s.material for silent in seen.values() for s in silent}):
        mine = {v: [s for s in silent if s.material == material] for v, silent in seen.items()}
        suspicion = _suspicion(survey, material, {v: s for v, s in mine.items() if s})
        if suspicion is not None:
            found.append(suspicion)
    return found


def _suspicion(survey: Survey, material: int, where: dict[str, list[Silent]]) -> Suspicion | None:
    name = survey.build.scene.material_keys[material] if material >= 0 else "the default material"
    view, worst = min(((v, s) for v, silent in where.items() for s in silent), key=lambda item: item[1].found.answer)
    told = tried(survey.renderer, survey.build, survey.request(view), worst.found, worst.enough)
    causes = [c for c in told.causes if any(r.own for r in c.rivals)]
    if not causes:
        return None
    why = " and ".join(r.what for r in causes[0].rivals)
    how = "does not answer" if worst.found.answer < BROKEN * worst.enough / WEAK else "hardly answers"
    subjects = tuple(dict.fromkeys(s.found.name for silent in where.values() for s in silent))
    return Suspicion(
        code=CODE, cause_kind="material", cause=name, title=f"{worst.found.name} {how} light from around: {why}",
        subjects=subjects, value=1 - worst.found.answer, limit=1 - worst.enough, evidence=tuple(_evidence(worst, view, told)),
        pixels={v: sum(s.pixels for s in silent) for v, silent in where.items()},
        regions={v: silent[0].region for v, silent in where.items()},
        candidates=tuple(_candidates(survey, material, causes, worst.enough / WEAK)) if survey.pictures else (),
        facts={"material": name, "causes": why},
    )  # fmt: skip


def _evidence(worst: Silent, view: str, told: Tried) -> Iterator[Evidence]:
    found = worst.found
    yield Evidence(
        measure=f"share of light from around that {found.name} answers with at {view}", value=found.answer, unit="share", limit=None,
        source=f"limit: at least {worst.enough:.2g}, half of what is usual there", picture=worst.picture,
    )  # fmt: skip
    yield Evidence(measure="light from around drawn there", value=found.drawn, unit="nit")
    yield Evidence(
        measure="light from around due there", value=found.due, unit="nit", source=f"{found.places} places by light's paths"
    )
    for rival, answer in told.single:
        yield Evidence(measure=f"share after: {rival.change.title}", value=answer, unit="share")
    for cause in told.causes:
        if len(cause.rivals) > 1:
            yield Evidence(
                measure="share after: " + " and ".join(r.change.title for r in cause.rivals), value=cause.answer, unit="share"
            )


def _candidates(survey: Survey, material: int, causes: list[Cause], usual: float) -> Iterator[Candidate]:
    for cause in causes:
        if not any(r.change.operation for r in cause.rivals) or len(cause.rivals) == 1:
            predicts = f"it answers with {cause.answer:.2f} of what is due, what stands around it with {usual:.2f}"
            yield Candidate(change=_both(cause.rivals), predicts=predicts)
        if material >= 0 and any(r.change.scope == "shader" for r in cause.rivals):
            yield _swapped(survey, material)


def _swapped(survey: Survey, material: int) -> Candidate:
    """The stock base shader instead, with the pictures that it takes over."""
    scene = survey.build.scene
    swap = swap_shader(survey.build, scene.material_keys[material], STOCK_SHADERS[scene.materials[material].alpha_mode])
    kept = sum(t.fate in ("kept", "switched on") for t in swap.transfers)
    lost = [t.role for t in swap.transfers if t.fate == "no place"]
    return Candidate(
        change=swap.change, predicts=f"the stock base shader answers; {kept} pictures keep their roles",
        warnings=(f"no place for {', '.join(lost)}",) if lost else (),
    )  # fmt: skip


def _both(rivals: tuple[Rival, ...]) -> Change:
    """Changes of rivals as one."""
    first = rivals[0].change
    if len(rivals) == 1:
        return first
    ops: list[Op] = [op for r in rivals for op in r.change.patch]
    title = " and ".join(r.change.title for r in rivals)
    return Change(id=short_id(title), title=title, scope=first.scope, patch=tuple(ops))


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """Each rival put right."""
    found = []
    for rival in rivals_of(survey.renderer, survey.build, survey.request(viewpoint), subject):
        found.append(
            Lever(pass_name="indirect", change=rival.change, predicts="it answers light from around", because=rival.what)
        )
    return found


FAMILY = register(
    Family(
        "no response",
        (
            Code(
                code=CODE, words="Things stay black in shade: they do not answer light from around", kind="Light", sheet="light",
                symptom="black in shade", limit=f"share of what is due: at least {WEAK:g} of what is usual in the frame",
            ),
        ),
        observe,
        conclude,
        levers,
        symptoms=("black in shade",),
    )
)  # fmt: skip

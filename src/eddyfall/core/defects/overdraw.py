"""blend.overdraw: more blended fragments are laid than the target allows.

A budget belongs to a target (section `budget`); where none is set nothing is found. Fragments are counted by the pass itself; those that
change nothing are what cards can be trimmed of."""

from eddyfall.core.defects.blend_kinds import blended_materials, census_of
from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.layers.overdraw import Overdraw, overdraw_of
from eddyfall.core.scene.changes import Change, Operation, set_leaf
from eddyfall.core.scene.names import short_id
from eddyfall.core.scene.setup.sections.budget import Budget
from eddyfall.core.uv.trim import savings

CODE, LEAF = "blend.overdraw", "budget.blended_layers"
WORTH, CORNERS, MOST_WAYS, MOST_TOLD = (
    0.1,
    8,
    8,
    4,
)  # share of a card that is worth being trimmed of; of its polygon; remedies offered


def observe(survey: Survey, viewpoint: str) -> Overdraw | None:
    """What is laid there, if it is more than is allowed."""
    limit = survey.resolved(viewpoint)[Budget].blended_layers
    if limit <= 0:
        return None
    found = overdraw_of(survey.frame(viewpoint))
    return found if found.mean > limit else None


def conclude(survey: Survey, seen: dict[str, Overdraw | None]) -> list[Suspicion]:
    """One suspicion, of the viewpoint that lays most."""
    over = {v: found for v, found in seen.items() if found is not None}
    if not over:
        return []
    worst = max(over, key=lambda v: over[v].mean)
    most, limit = over[worst], survey.resolved(worst)[Budget].blended_layers
    total = int(most.depth.sum())
    names = tuple(survey.geometry.drawables[v.drawable].name for v in most.laid)
    masks = {v: found.depth > limit for v, found in over.items()}
    return [
        Suspicion(
            code=CODE, cause_kind="setting", cause=LEAF, subjects=names, value=most.mean, limit=limit,
            title=f"{most.mean:.3g} blended layers are laid on each pixel, {limit:.3g} are allowed",
            evidence=(
                Evidence(measure=f"blended fragments for each pixel at {worst}", value=most.mean, unit="layers", limit=limit, source=LEAF,
                         picture=survey.painted(worst, masks[worst])),
                Evidence(measure="of the fragments, those that change nothing", value=most.idle / max(total, 1), unit="share"),
                Evidence(measure="most in one pixel", value=float(most.depth.max()), unit="layers"),
                *(
                    Evidence(measure=f"laid by {survey.geometry.drawables[v.drawable].name}", value=(v.fragments - v.hidden) / total,
                             unit="share")
                    for v in most.laid[:MOST_TOLD]
                ),
            ),
            pixels={v: int(m.sum()) for v, m in masks.items()}, regions={v: region_of(m) for v, m in masks.items()},
            candidates=tuple(_ways(survey, most)) if survey.pictures else (),
        )
    ]  # fmt: skip


def trim_change(mesh: str) -> Change:
    """A mesh's cards cut down to what shows of them."""
    return Change(
        id=short_id(f"mesh.trim {mesh} {CORNERS}"), title=f"trim the cards of {mesh} to {CORNERS} corners", scope="mesh",
        reason="much of them is clear", operation=Operation(name="mesh.trim", params={"mesh": mesh, "corners": CORNERS}),
    )  # fmt: skip


def _ways(survey: Survey, most: Overdraw) -> list[Candidate]:
    scene, drawables, ways = survey.build.scene, survey.geometry.drawables, []
    for mesh in dict.fromkeys(drawables[v.drawable].mesh for v in most.laid):
        share = savings(survey.build, scene.mesh_keys.index(mesh), CORNERS) if mesh in scene.mesh_keys else None
        if share is not None and share >= WORTH:
            faces = sum(p.triangles for p in scene.meshes[scene.mesh_keys.index(mesh)].primitives)
            ways.append(
                Candidate(
                    change=trim_change(mesh), predicts=f"{share:.0%} less of its area",
                    costs=(Cost("triangles", faces // 2 * (CORNERS - 2) - faces, "triangles"),),
                    side_effects=("mips beyond the first may reach farther than its edge",),
                )
            )  # fmt: skip
    for material, things in blended_materials(survey).items():
        told = census_of(survey, material)
        if told.advice in ("opaque", "cutout"):
            change = set_leaf(
                survey.build, ("materials", told.material, "blend"), told.advice, scope="material",
                title=f"draw {told.material} as {'a cutout' if told.advice == 'cutout' else told.advice}",
            )  # fmt: skip
            ways.append(
                Candidate(change=change, predicts="it lays nothing", costs=(Cost("sorted draws", -len(things), "draws"),))
            )
    return ways[:MOST_WAYS]


FAMILY = register(
    Family(
        "overdraw",
        (
            Code(code=CODE, words="More blended layers are laid than the target allows", kind="Transparency", symptom="over budget",
                 sheet="draw-order", limit=f"the target's own, {LEAF}"),
        ),
        observe,
        conclude,
    )
)  # fmt: skip

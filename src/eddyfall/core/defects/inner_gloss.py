"""material.inner-gloss: a thing bonded under something clear that mirrors by itself as if there were air between; and "wrong gloss"."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, by_cause, region_of
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.layers.chain import meant
from eddyfall.core.materials.convert import value_set
from eddyfall.core.materials.gloss import ior_of
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change
from eddyfall.core.truth.bonded import BOND_M, LEAST_PX, VISIBLE, Excess, Joint, excess_of, joints_in

CODE = "material.inner-gloss"
TIMES = 2.0  # of the joint's own, from which it mirrors too much (ours, changeable)
ROUGHER = 0.3


@dataclass(frozen=True)
class Glossy:
    """A material at a viewpoint: the joint whose highlight is off most, and by how much."""

    joint: Joint
    excess: Excess


def observe(survey: Survey, viewpoint: str) -> dict[str, Glossy] | None:
    """By material, what lies bonded under something clear and mirrors more than twice what the joint does."""
    if not any(meant(survey.build)):
        return None
    frame = survey.frame(viewpoint, "display")
    found: dict[str, Glossy] = {}
    for joint in joints_in(survey.renderer, survey.build, frame, survey.target):
        if not joint.bonded or joint.times <= TIMES:
            continue
        excess = excess_of(survey.renderer, survey.build, survey.request(viewpoint), joint)
        pixels = int(excess.where.sum())
        key = survey.build.scene.material_keys[survey.geometry.drawables[joint.inner].material]
        known = found.get(key)
        if (pixels >= LEAST_PX or survey.masked) and (known is None or pixels > int(known.excess.where.sum())):
            found[key] = Glossy(joint, excess)
    return found


def conclude(survey: Survey, seen: dict[str, dict[str, Glossy] | None]) -> list[Suspicion]:
    """One suspicion for each material."""
    result, names = [], [d.name for d in survey.geometry.drawables]
    for material, found in by_cause({v: s for v, s in seen.items() if s is not None}).items():
        pixels = {v: int(g.excess.where.sum()) for v, g in found.items()}
        worst = max(found, key=lambda v: pixels[v])
        joint, excess = found[worst].joint, found[worst].excess
        inner, shell = names[joint.inner], names[joint.shell]
        source = f"Fresnel: n {joint.n_inner:g} under n {joint.n_shell:g}"
        result.append(
            Suspicion(
                code=CODE, cause_kind="material", cause=material,
                title=f"{inner} lies bonded under {shell} and shines by itself: its highlight stands beside the one of {shell}",
                subjects=(inner, shell), value=joint.times, limit=TIMES,
                evidence=(
                    Evidence(measure=f"mirrored head on by {inner}, times what the joint mirrors", value=joint.times, unit="x",
                             limit=TIMES, source=f"{source}: {joint.due_f0:.4g}, drawn {joint.drawn_f0:.4g}",
                             picture=survey.painted(worst, excess.where)),
                    Evidence(measure=f"pixels at {worst} that it brightens visibly", value=pixels[worst], unit="px", limit=LEAST_PX,
                             source=f"CIEDE2000 above {VISIBLE:g} against a frame with the joint's own"),
                    Evidence(measure="the most light that is too much", value=excess.peak_nit, unit="nit"),
                    Evidence(measure="gap between the two", value=joint.gap_mm, unit="mm", limit=BOND_M * 1000,
                             source="up to it they count as bonded; below 0 it lies within", at_least=True),
                ),
                pixels=pixels, regions={v: region_of(g.excess.where) for v, g in found.items()},
                candidates=tuple(
                    Candidate(change=c, predicts=p) for c, p in ways(survey.build, material, joint)
                ),
                facts={"f0_due": joint.due_f0, "f0_drawn": joint.drawn_f0}, masked=pixels[worst] < LEAST_PX,
            )
        )  # fmt: skip
    return result


def ways(build: Build, material: str, joint: Joint) -> Iterator[tuple[Change, str]]:
    """Its specular, or its index of refraction, so that it mirrors what the joint does; more roughness, which only spreads it."""
    of = build.scene.materials[build.scene.material_keys.index(material)]
    share = of.specular * joint.due_f0 / joint.drawn_f0
    yield (
        value_set(material, "specular", share, f"specular {share:.4g} for {material}: that of the joint"),
        "it mirrors what the bonded joint does",
    )
    bent = ior_of(joint.due_f0)
    yield (
        value_set(material, "ior", bent, f"index of refraction {bent:.5g} for {material}: as much as the joint mirrors"),
        "it mirrors what the bonded joint does",
    )
    rough = min(of.roughness + ROUGHER, 1.0)
    if rough > of.roughness:
        yield (
            value_set(material, "roughness", rough, f"roughness {rough:.2g} for {material}"),
            "its highlight is spread, not gone",
        )


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """What ends the highlight of the subject's own, or only spreads it."""
    if not any(meant(survey.build)):
        return []
    frame = survey.frame(viewpoint, "display")
    result = []
    for joint in joints_in(survey.renderer, survey.build, frame, survey.target):
        if subject in (joint.inner, joint.shell) and joint.bonded and joint.times > TIMES:
            material = survey.build.scene.material_keys[frame.geometry.drawables[joint.inner].material]
            because = f"the joint mirrors {joint.due_f0:.3g}, it mirrors {joint.drawn_f0:.3g}"
            result += [Lever("direct", change, says, because) for change, says in ways(survey.build, material, joint)]
    return result


def too_glossy(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """The most nits over the spot by which what lies bonded under the subject, or is it, outshines the joint."""
    frame, most = renderer.frame(build, spot.request), 0.0
    for joint in joints_in(renderer, build, frame, spot.request.target):
        if spot.subject in (joint.inner, joint.shell) and joint.bonded and joint.times > TIMES:
            most = max(most, excess_of(renderer, build, spot.request, joint).peak_nit)
    return most


def of_one_material(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels elsewhere that show the subject's material, or something through a pane."""
    material = before.stage.state.material
    same = np.append(material == material[spot.subject], False)
    return np.asarray(same[before.drawable] | (before.pane >= 0))


GLOSS = register_symptom(
    Symptom(
        name="wrong gloss", unit="nit", means="a thing under something clear has a highlight of its own that the joint does not have",
        score=too_glossy, clear_share=0.1, shares=of_one_material,
    )
)  # fmt: skip
FAMILY = register(
    Family(
        "inner gloss",
        (
            Code(
                code=CODE, words="A thing bonded under something clear shines by itself", kind="Surface", symptom=GLOSS.name,
                limit=f"{TIMES:g} times what the joint mirrors",
            ),
        ),
        observe,
        conclude,
        levers,
        (GLOSS.name,),
    )
)  # fmt: skip

"""shadow.hole-lost: a cutout whose shadow lets through another share of the light than its holes truly do.

A shadow map tests alpha at the mip level of its own texels. Where these are coarser than the holes, that level is an average, and passes
everywhere (a solid shadow) or nowhere (none). It is measured as a share over the inside of the shadow, since all of it is edge."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.shadow_added import added
from eddyfall.core.defects.shadow_swims import stands_still
from eddyfall.core.defects.survey import Survey, by_cause, mask_of, region_of
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame
from eddyfall.core.scene.changes import Change, apply_change, set_leaf, set_resolved
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.scene.setup.tables import MaterialSetup
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.truth.holes import HoleShare, hole_shares
from eddyfall.core.truth.judge import SHADOWED, Judge
from eddyfall.core.truth.surfaces import surfaces_of
from eddyfall.core.truth.walk import shadow_walk

CODE = "shadow.hole-lost"
MOST = 0.1  # open share drawn less the true one
LEAST_PX = 256  # of a shadow's inside, or its share says little
WELL = MOST / 2  # a bias is looked for that leaves no more
EVERY = 2
LEVELS = 12  # finer that are tried
FINEST = -16  # that the setting can be
WALK = (0.05, 4)  # m a step, steps
MOST_EDGE = 8192


@dataclass(frozen=True)
class Lost:
    """One material's holes at a viewpoint, in the light in which they are most off: shares, pixels of the shadow's inside, where, what
    throws it and what it falls on, a picture."""

    light: str
    drawn: float
    true: float
    pixels: int
    region: tuple[int, int, int, int]
    subjects: tuple[str, ...]
    mask: np.ndarray
    picture: np.ndarray | None

    @property
    def off(self) -> float:
        """Open share drawn less the true one."""
        return self.drawn - self.true


def observe(survey: Survey, viewpoint: str) -> dict[str, Lost]:
    """By material key: holes whose share is off by more than may be."""
    frame = survey.frame(viewpoint, SHADOWED, survey.spot)
    if not (frame.buffers["cutouts"].material >= 0).any():
        return {}
    found: dict[str, Lost] = {}
    surfaces, judge, keys = surfaces_of(frame, EVERY), Judge(survey.renderer, frame), survey.build.scene.material_keys
    for number, light in enumerate(frame.stage.lights):
        for share in hole_shares(judge, number, surfaces, LEAST_PX // EVERY**2):
            key = keys[share.material]
            if abs(share.off) > MOST and (key not in found or abs(found[key].off) < abs(share.off)):
                found[key] = _lost(survey, viewpoint, frame, light.name, share, surfaces.pixels[share.rows])
    return found


def _lost(survey: Survey, viewpoint: str, frame: Frame, light: str, share: HoleShare, pixels: np.ndarray) -> Lost:
    mask = mask_of(frame.pixels.shape, pixels, EVERY)
    names = [frame.geometry.drawables[d].name for d in (*share.drawables, *share.receivers)]
    picture = survey.painted(viewpoint, mask) if survey.spot is None else None
    return Lost(
        light, share.drawn, share.true, len(pixels) * EVERY**2, region_of(mask), tuple(dict.fromkeys(names)), mask, picture
    )  # fmt: skip


def conclude(survey: Survey, seen: dict[str, dict[str, Lost]]) -> list[Suspicion]:
    """One suspicion for each material, with all viewpoints that show its shadow."""
    return [_suspicion(survey, key, where) for key, where in sorted(by_cause(seen).items())]


def _suspicion(survey: Survey, material: str, where: dict[str, Lost]) -> Suspicion:
    worst = max(where, key=lambda v: abs(where[v].off))
    most = where[worst]
    how = "too solid" if most.off < 0 else "too open"
    through = f"its holes let {_percent(most.true)} of {most.light} through, {_percent(most.drawn)} is drawn"
    evidence = (
        Evidence(
            measure=f"open share of its shadow, drawn against true, at {worst}", value=abs(most.off), unit="share", limit=MOST,
            source=f"{most.pixels} px inside the shadow of {most.light}", picture=most.picture,
        ),
        Evidence(measure="open share drawn", value=most.drawn, unit="share"),
        Evidence(measure="open share by rays", value=most.true, unit="share"),
    )  # fmt: skip
    return Suspicion(
        code=CODE,
        cause_kind="material",
        cause=material,
        title=f"The shadow of {material} is {how}: {through}",
        subjects=tuple(dict.fromkeys(name for lost in where.values() for name in lost.subjects)),
        value=abs(most.off),
        limit=MOST,
        evidence=evidence,
        pixels={v: lost.pixels for v, lost in where.items()},
        regions={v: lost.region for v, lost in where.items()},
        candidates=tuple(_candidates(survey, worst, material, most)) if survey.pictures else (),
        facts={"light": most.light},
    )


def _percent(share: float) -> str:
    return f"{share * 100:.0f} %"


def _candidates(survey: Survey, viewpoint: str, material: str, most: Lost) -> Iterator[Candidate]:
    before = survey.frame(viewpoint, SHADOWED)
    for change, predicts in _changes(survey, viewpoint, before, material, most):
        costs = added(survey, viewpoint, change)
        aside = (
            _swimming(survey, viewpoint, change, most) if any(op.path.endswith("shadow_mip_bias") for op in change.patch) else ()
        )
        yield Candidate(change=change, predicts=predicts, costs=costs, side_effects=aside)


def _changes(survey: Survey, viewpoint: str, frame: Frame, material: str, most: Lost) -> Iterator[tuple[Change, str]]:
    """The finest levels that do by a bias, mips that keep their coverage, finer maps, rays."""
    build, path = survey.build, ("materials", material)
    entry = build.setup.materials.get(material, MaterialSetup())
    if not entry.shadow_alpha_test:
        on = set_leaf(build, (*path, "shadow_alpha_test"), True, scope="material", title=f"{material} is alpha tested in shadows")
        yield on, "its holes are drawn"
    finer = _finer_mips(survey, viewpoint, material, entry.shadow_mip_bias)
    if finer is not None:
        yield finer
    if not entry.shadow_coverage_kept:
        title = f"{material}: its mips keep their coverage in shadows"
        kept = set_leaf(build, (*path, "shadow_coverage_kept"), True, scope="material", title=title)
        if _does(survey, viewpoint, kept, material):
            yield kept, "as much of each mip passes the test as of the finest"
    if finer is not None:
        return  # what changes all shadows of a light is offered where the material by itself does not do
    light = next(v for v in frame.stage.lights if v.name == most.light)
    shadow = frame.stage.resolved[Shadow]
    edge = light.resolution or (shadow.resolution if light.kind == DIRECTIONAL else shadow.light_resolution)
    if light.technique == "cascades" and 2 * edge <= MOST_EDGE:
        change = _finer(survey, frame, most.light, light.resolution is not None, light.kind, 2 * edge)
        if _does(survey, viewpoint, change, material):
            yield change, "texels half as large ask for a finer mip"
    if light.technique != "rays":
        by_rays = set_leaf(build, ("lights", most.light, "technique"), "rays", scope="project", title=f"{most.light} by rays")
        if _does(survey, viewpoint, by_rays, material):
            yield by_rays, "rays test the finest mip"


def _finer_mips(survey: Survey, viewpoint: str, material: str, bias: float) -> tuple[Change, str] | None:
    """The least bias that leaves the share well inside its limit; failing that, the one that leaves it nearest, if that is inside."""
    best: tuple[float, Change] | None = None
    before = -1.0
    start = min(bias, 0.0)
    tried = [start - level for level in range(int(bias <= 0), LEVELS + 1) if start - level >= FINEST]
    for value in tried:  # one that is set the other way is put back first
        title = f"{material}: shadow mip bias {value:g}"
        path = ("materials", material, "shadow_mip_bias")
        change = set_leaf(survey.build, path, value, scope="material", title=title)
        left = off_with(survey, viewpoint, change, material)
        if left is None or left == before:  # no finer mip is left
            break
        before = left
        if best is None or left < best[0]:
            best = left, change
        if left <= WELL:
            break
    if best is None or best[0] > MOST:
        return None
    return best[1], f"the alpha of finer mips is tested; {best[0]:.2f} of the share is then off"


def _finer(survey: Survey, frame: Frame, light: str, own: bool, kind: int, edge: int) -> Change:
    if own:
        path = ("lights", light, "resolution")
        return set_leaf(survey.build, path, edge, scope="project", title=f"{light}: maps of {edge} texels")
    leaf = "shadow.resolution" if kind == DIRECTIONAL else "shadow.light_resolution"
    return set_resolved(survey.build, frame.stage.resolved, {leaf: edge}, title=f"shadow maps of {edge} texels")


def off_with(survey: Survey, viewpoint: str, change: Change, material: str) -> float | None:
    """By how much the share of a material's holes is off, in the light in which it is most, with a change; None if it throws no shadow."""
    changed = apply_change(survey.build, change)
    frame = survey.on(changed).frame(viewpoint, SHADOWED)
    judge, surfaces, keys = Judge(survey.renderer, frame), surfaces_of(frame, EVERY), changed.scene.material_keys
    shares = [
        abs(share.off)
        for number in range(len(frame.stage.lights))
        for share in hole_shares(judge, number, surfaces, LEAST_PX // EVERY**2)
        if keys[share.material] == material
    ]
    return max(shares, default=None)


def _does(survey: Survey, viewpoint: str, change: Change, material: str) -> bool:
    """Whether a change brings the share inside its limit, in every light."""
    left = off_with(survey, viewpoint, change, material)
    return left is not None and left <= MOST


def _swimming(survey: Survey, viewpoint: str, change: Change, most: Lost) -> tuple[str, ...]:
    """Whether the shadow's inside flips more in a short walk than before: finer mips are sampled more coarsely."""
    if stands_still(survey.resolved(viewpoint)[Shadow]):
        return ()  # texels that stand still hold the same of a mesh, at whatever mip
    told = []
    for build in (survey.build, apply_change(survey.build, change)):
        try:
            walk = shadow_walk(survey.renderer, build, survey.request(viewpoint), "aside", *WALK, most.light, EVERY, most.mask)
        except RequestError:  # by rays: nothing is looked up, so nothing swims
            return ()
        told.append(walk.share)
    return (
        (f"of its dark places {told[0] * 100:.1f} % -> {told[1] * 100:.1f} % flip in a short walk aside",)
        if told[1] > told[0] + 0.005
        else ()
    )


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """The same as single changes, where the subject is in the shadow of such holes or throws it."""
    frame = survey.frame(viewpoint, SHADOWED, survey.spot)
    name = survey.geometry.drawables[subject].name
    made = []
    for material, lost in observe(survey, viewpoint).items():
        if name in lost.subjects:
            why = f"{_percent(lost.true)} of {lost.light} comes through by rays, {_percent(lost.drawn)} is drawn"
            made += [
                Lever("shadow", change, predicts, why) for change, predicts in _changes(survey, viewpoint, frame, material, lost)
            ]
    return made


FAMILY = register(
    Family(
        "shadow holes",
        (
            Code(
                code=CODE,
                words="A cutout's shadow is more solid, or more open, than its holes",
                kind="Shadow",
                symptom="shadow density",
                limit="a tenth of the light, over 256 px or more of the shadow's inside",
                sheet="shadow-reach",
            ),
        ),
        observe,
        conclude,
        levers,
        ("shadow density",),
    )
)

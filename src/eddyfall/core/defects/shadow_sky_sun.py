"""shadow.sky-sun-off: the sun stays in the sky picture, whose light throws no shadow: shade is as bright as what lies in the sun.

Measured on the picture that is drawn: the share of the light on level ground that comes from a compact, strong place in it."""

import math
from collections.abc import Iterator

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.shadow_added import added
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.scene.changes import Change, Operation
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup.sections.sky import Sky
from eddyfall.core.truth import sky_operations  # noqa: F401  (registers what the remedy does)
from eddyfall.core.truth.judge import SHADOWED
from eddyfall.core.truth.sky_shade import LIMIT, SkyShade, sky_shade

CODE = "shadow.sky-sun-off"
SAME_LUX = 0.1  # a light that gives this much more or less than the picture's sun is not the same


def observe(survey: Survey, viewpoint: str) -> SkyShade | None:
    """The sky picture of the frame, if it holds a sun."""
    return sky_shade(survey.renderer, survey.build, survey.frame(viewpoint, SHADOWED))


def conclude(survey: Survey, seen: dict[str, SkyShade | None]) -> list[Suspicion]:
    """One suspicion for each picture."""
    pictures: dict[str, dict[str, SkyShade]] = {}
    for viewpoint, found in seen.items():
        if found is not None and found.share > LIMIT:
            pictures.setdefault(found.picture, {})[viewpoint] = found
    return [_suspicion(survey, views) for views in pictures.values()]


def _suspicion(survey: Survey, views: dict[str, SkyShade]) -> Suspicion:
    worst = max(views, key=lambda v: int(views[v].due.sum()))
    s = max(views.values(), key=lambda v: v.share)
    sun, least = s.sun, s.sun.verdict == "clipped"
    x, y, z = s.towards
    source = f"{s.picture}, {sun.sky.shape[1]} x {sun.sky.shape[0]} px"
    elevation, azimuth = math.degrees(math.asin(max(-1.0, min(1.0, y)))), math.degrees(math.atan2(x, -z)) % 360
    with_sun, shade = s.sun_lux + s.sky_lux + s.lights_lux, s.sky_lux + s.lights_lux - _of_light(s)
    due = -math.log2(max(with_sun - s.sun_lux - _of_light(s), 1e-30) / max(with_sun - _of_light(s), 1e-30))
    evidence = [
        Evidence(
            measure="share of the light on level ground that throws no shadow, though it comes from one place", value=s.share, unit="share",
            limit=LIMIT, source=source, at_least=least, picture=survey.painted(worst, views[worst].due),
        ),
        Evidence(measure="the picture's sun on a face turned to it", value=sun.lux * s.nits, unit="lx", at_least=least, source=source),
        Evidence(measure="its elevation", value=elevation, unit="deg"),
        Evidence(measure="its azimuth, from -Z to +X", value=azimuth, unit="deg"),
        Evidence(measure="level ground in its shade gets", value=shade, unit="lx", predicted=True),
        Evidence(measure="its shade is drawn too bright by", value=due, unit="stops", predicted=True, at_least=least),
    ]  # fmt: skip
    if s.as_light is not None:
        twice = math.log2((s.sun_lux + s.sky_lux + s.lights_lux) / max(s.sky_lux + s.lights_lux, 1e-30))
        measure = f"level ground in the sun is too bright by, as {s.as_light} gives it again"
        evidence.append(Evidence(measure=measure, value=twice, unit="stops", predicted=True))
    subjects = {survey.geometry.drawables[i].name for v, found in views.items() for i in _behind(survey, v, found)}
    return Suspicion(
        code=CODE,
        cause_kind="sky",
        cause=s.picture,
        title=f"The sun in {s.picture} throws no shadow: {s.share * 100:.0f} % of the light on level ground comes from it",
        subjects=tuple(sorted(subjects)),
        value=s.share,
        limit=LIMIT,
        evidence=tuple(evidence),
        pixels={v: int(found.due.sum()) for v, found in views.items() if found.due.any()},
        regions={v: region_of(found.due) for v, found in views.items() if found.due.any()},
        candidates=tuple(_candidates(survey, s, worst)) if survey.pictures else (),
        facts={"verdict": sun.verdict, "why": sun.why},
    )


def _of_light(s: SkyShade) -> float:
    """What the light that stands where the picture's sun does gives on level ground, in lx."""
    return s.as_light_lux * max(s.towards[1], 0.0) if s.as_light is not None else 0.0


def _behind(survey: Survey, viewpoint: str, found: SkyShade) -> set[int]:
    shown = survey.frame(viewpoint, "drawable").drawable[found.due]
    return {int(i) for i in set(shown.tolist()) if i >= 0}


def _taken_out(survey: Survey, s: SkyShade) -> Change:
    """The sun out of the picture, and beside it as a light, unless one stands there already."""
    taken = {*survey.build.setup.lights, *survey.build.scene.light_keys}
    name = next(n for n in ("sky_sun", *(f"sky_sun_{k}" for k in range(2, 1000))) if n not in taken)
    light = None if s.as_light is not None else name
    title = f"{s.picture} without its sun" + (f", which becomes the light {light}" if light else f": {s.as_light} stands for it")
    sky = resolve(survey.build.setup, survey.target, survey.role)[Sky]  # as it is in no light set
    params = {"picture": s.picture} | ({"light": light, "nits": sky.picture_nits, "yaw_deg": sky.yaw_deg} if light else {})
    return Change(
        id=f"sky.take_sun_out:{s.picture}",
        title=title,
        scope="project",
        reason="a sky's light throws no shadow, a light's does",
        operation=Operation(name="sky.take_sun_out", params=params),
    )


PREDICTED = "what lies open keeps its light, what lies behind something loses the sun's"


def _candidates(survey: Survey, s: SkyShade, worst: str) -> Iterator[Candidate]:
    sun, lux, warnings = s.sun, s.sun.lux * s.nits, []
    if sun.verdict == "clipped":
        warnings.append(f"the picture's sun is cut off ({sun.why}): {lux:,.0f} lx is the least that it gave")
    if s.as_light is not None and abs(s.as_light_lux - lux) > SAME_LUX * lux:
        warnings.append(f"{s.as_light} gives {s.as_light_lux:,.0f} lx, the picture's sun gave {lux:,.0f} lx")
    dimmed = [name for name, of in survey.build.setup.light_sets.items() if of.sky != 1.0]
    if s.as_light is None and dimmed:
        warnings.append(f"light sets that dim the sky do not dim its light: {', '.join(dimmed)}")
    change = _taken_out(survey, s)
    yield Candidate(
        change=change,
        predicts=PREDICTED,
        costs=added(survey, worst, change),
        side_effects=(f"{s.picture} is written anew: the sky around the sun is laid over it",),
        warnings=tuple(warnings),
    )


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """The same as a single change, where the subject lies in the picture's sun's shade."""
    s = observe(survey, viewpoint)
    if s is None or s.share <= LIMIT or subject not in _behind(survey, viewpoint, s):
        return []
    return [Lever("indirect", _taken_out(survey, s), PREDICTED, f"{s.share * 100:.0f} % of the light here throws no shadow")]


FAMILY = register(
    Family(
        "sky sun",
        (
            Code(
                code=CODE,
                words="The sun in the sky picture throws no shadow",
                kind="Shadow",
                symptom="missing shadow",
                limit="share of the light on level ground that comes from one place and throws no shadow: 5 %",
                sheet="shadow-reach",
            ),
        ),
        observe,
        conclude,
        levers,
        ("missing shadow",),
    )
)

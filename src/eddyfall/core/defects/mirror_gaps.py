"""Part of reflect.missed: things that planar mirrors leave out, since their base shader has no mirror pass.

Told by rays from the mirrors' pixels: where what is met there is a thing that mirrors do not draw."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Evidence, Lever, Suspicion
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.scene.changes import Change, set_leaf
from eddyfall.core.truth.reflections.mirrored import left_out

GAPS = "mirrors"
LIMIT_SHARE = 0.002  # of a mirror's pixels (ours, changeable)


@dataclass(frozen=True)
class Gap:
    """Of the mirrors of a viewpoint: by base shader that has no mirror pass, things it leaves out (names) and the share of mirror pixels
    that ought to show them; pixels, region, picture of these."""

    shader: str
    things: tuple[str, ...]
    mirrors: tuple[str, ...]
    share: float
    pixels: int
    region: tuple[int, int, int, int]
    picture: np.ndarray | None


def mirror_gaps(survey: Survey, viewpoint: str) -> list[Gap]:
    """What mirrors leave out there, by base shader."""
    if not any(m.on for m in survey.build.setup.mirrors.values()):
        return []
    return [
        Gap(g.shader, g.things, g.mirrors, g.share, int(g.mask.sum()), region_of(g.mask), survey.painted(viewpoint, g.mask))
        for g in left_out(survey.renderer, survey.build, survey.frame(viewpoint))
        if g.share > LIMIT_SHARE
    ]


def gap_suspicions(survey: Survey, seen: dict[str, list[Gap]]) -> Iterator[Suspicion]:
    """One suspicion for each base shader."""
    for shader in sorted({g.shader for gaps in seen.values() for g in gaps}):
        where = {v: g for v, gaps in seen.items() for g in gaps if g.shader == shader}
        view = max(where, key=lambda v: where[v].share)
        worst = where[view]
        listed = worst.things[0] + (f" and {len(worst.things) - 1} more" if len(worst.things) > 1 else "")
        yield Suspicion(
            code="reflect.missed", cause_kind="shader", cause=shader,
            title=f"{worst.mirrors[0]} does not mirror {listed}: base shader {shader} is not drawn in mirrors",
            subjects=tuple(dict.fromkeys(m for g in where.values() for m in g.mirrors)), value=worst.share, limit=LIMIT_SHARE,
            evidence=(
                Evidence(
                    measure=f"share of mirror pixels at {view} that ought to show it", value=worst.share, unit="share",
                    limit=LIMIT_SHARE, picture=worst.picture,
                ),
                *(Evidence(measure=f"missing in mirrors: {thing}", value=1, unit="things") for thing in worst.things[:8]),
            ),
            pixels={v: g.pixels for v, g in where.items()}, regions={v: g.region for v, g in where.items()},
            candidates=(
                (Candidate(change=drawn_in_mirrors(survey, shader), predicts="mirrors show it"),)
                if survey.pictures else ()
            ),
            facts={"shader": shader, "viewpoint": view},
        )  # fmt: skip


def drawn_in_mirrors(survey: Survey, shader: str) -> Change:
    """A change that gives a base shader a mirror pass."""
    title = f"draw base shader {shader} in mirrors"
    return set_leaf(survey.build, ("shaders", shader, "passes", "mirror"), True, scope="shader", title=title)


def mirror_levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """The same for each base shader that the subject leaves out, as a mirror."""
    name = survey.geometry.drawables[subject].name
    return [
        Lever(
            pass_name="planar",
            change=drawn_in_mirrors(survey, gap.shader),
            predicts="the mirror shows it",
            because="it has no mirror pass",
        )
        for gap in mirror_gaps(survey, viewpoint)
        if name in gap.mirrors
    ]

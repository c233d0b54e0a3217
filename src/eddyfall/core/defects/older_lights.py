"""bounce.double-fill, light.reach: lights of an older scene that bounced light has made superfluous, and lamps that reach too far.

A fill is told by taking it out: with it the frame is far above what it was without bounce, without it as it was. Lamps are judged where a
target says how many may reach a pixel (`budget.lights`); the range that is offered is the least that keeps what they light."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.scene.changes import set_leaves
from eddyfall.core.scene.setup.sections.budget import Budget
from eddyfall.core.scene.setup.sections.screen import Bounce
from eddyfall.core.truth.older.fills import ABOVE, WITHIN, Fill, fills
from eddyfall.core.truth.older.reach import KEPT, STOPS, Reach, lamps_at, reaches

DOUBLE, REACH = "bounce.double-fill", "light.reach"
LEAST_PIXELS = 64


@dataclass(frozen=True)
class Seen:
    """At a viewpoint: fills that bounce doubles, with the pixels of the whole frame they light; most lamps that reach a pixel, where that
    is too many (h, w) bool, None: nowhere."""

    doubled: tuple[tuple[Fill, np.ndarray], ...]
    most: int
    crowded: np.ndarray | None


def observe(survey: Survey, viewpoint: str) -> Seen | None:
    """Fills that double, pixels that too many lamps reach."""
    resolved = survey.resolved(viewpoint)
    doubled: list[tuple[Fill, np.ndarray]] = []
    if resolved[Bounce].enabled:
        for fill in fills(survey.renderer, survey.build, viewpoint, survey.target, survey.role):
            if fill.doubles:
                doubled.append((fill, _of_size(fill.mask, survey.size)))
    limit, most, crowded = resolved[Budget].lights, 0, None
    if limit:
        lamps = lamps_at(survey.frame(viewpoint))
        most = int(lamps.max(initial=0))
        crowded = lamps > limit if (lamps > limit).sum() >= LEAST_PIXELS else None
    return Seen(tuple(doubled), most, crowded) if doubled or crowded is not None else None


def _of_size(mask: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """A mask (h, w) for a frame of a size (width, height) px."""
    rows, columns = (np.arange(edge) * of // edge for edge, of in zip(reversed(size), mask.shape))
    return np.asarray(mask[np.ix_(rows, columns)])


def conclude(survey: Survey, seen: dict[str, Seen | None]) -> list[Suspicion]:
    """One suspicion for each fill, one for all lamps that reach too far."""
    there = {v: s for v, s in seen.items() if s is not None}
    names = sorted({fill.light for s in there.values() for fill, _ in s.doubled})
    found = [_doubled(survey, name, there) for name in names]
    crowded = {v: s for v, s in there.items() if s.crowded is not None}
    return [*found, *(_crowded(survey, crowded) if crowded else ())]


def _doubled(survey: Survey, name: str, seen: dict[str, Seen]) -> Suspicion:
    where = {v: (fill, mask) for v, s in seen.items() for fill, mask in s.doubled if fill.light == name}
    view = max(where, key=lambda v: where[v][0].above)
    worst, mask = where[view]
    return Suspicion(
        code=DOUBLE, cause_kind="light", cause=name, title=f"{name} doubles what bounce brings at {view}: {worst.above:+.2f} stops",
        subjects=(), value=worst.above, limit=ABOVE,
        evidence=(
            Evidence(measure=f"stops above the frame without bounce at {view}, where {name} lights", value=worst.above, unit="stops",
                     limit=ABOVE, picture=survey.painted(view, mask)),
            Evidence(measure=f"the same without {name}", value=worst.without, unit="stops", source=f"within {WITHIN:g}: bounce stands in"),
        ),
        pixels={v: int(m.sum()) for v, (_, m) in where.items()}, regions={v: region_of(m) for v, (_, m) in where.items()},
        candidates=(Candidate(change=worst.off, predicts="bounce alone lights it as it was"),) if survey.pictures else (),
        facts={"light": name, "viewpoint": view},
    )  # fmt: skip


def _crowded(survey: Survey, seen: dict[str, Seen]) -> Iterator[Suspicion]:
    view = max(seen, key=lambda v: seen[v].most)
    masks = {v: s.crowded for v, s in seen.items() if s.crowded is not None}
    limit = survey.resolved(view)[Budget].lights
    lamps = reaches(survey.renderer, survey.build, survey.viewpoints, survey.target) if survey.pictures else []
    shorter = [r for r in lamps if 0 < r.least_m < (r.range_m or np.inf)]
    yield Suspicion(
        code=REACH, cause_kind="setting", cause="budget.lights", title=f"{seen[view].most} lamps reach places at {view}, {limit} may",
        subjects=(), value=seen[view].most, limit=limit,
        evidence=(
            Evidence(measure=f"lamps that reach one pixel at {view}", value=seen[view].most, unit="lamps", limit=limit,
                     source="budget.lights", picture=survey.painted(view, masks[view])),
            *(Evidence(measure=f"least range of {r.light} that keeps {KEPT:.0%} of what it lights within {STOPS:g} stops; it has "
                               f"{f'{r.range_m:g} m' if r.range_m else 'no end'}", value=r.least_m, unit="m") for r in shorter),
        ),
        pixels={v: int(m.sum()) for v, m in masks.items()}, regions={v: region_of(m) for v, m in masks.items()},
        candidates=tuple(_shorter(survey, shorter)), facts={"viewpoint": view},
    )  # fmt: skip


def _shorter(survey: Survey, lamps: list[Reach]) -> Iterator[Candidate]:
    if lamps:
        title = "lamps reach as far as they need"
        values: dict[tuple[str, ...], Any] = {("lights", r.light, "range_m"): round(r.least_m + 0.005, 2) for r in lamps}
        change = set_leaves(survey.build, values, scope="project", title=title)
        yield Candidate(change=change, predicts=f"{KEPT:.0%} of what each lights stays within {STOPS:g} stops")


FAMILY = register(
    Family(
        "older lights",
        (
            Code(code=DOUBLE, words="A fill light doubles what bounce brings", kind="Light", sheet="light", symptom="too bright",
                 limit=f"stops above the frame without bounce: {ABOVE:g}"),
            Code(code=REACH, words="More lamps reach a place than the target allows", kind="Light", sheet="light", symptom="too many lamps",
                 limit="lamps that may reach one pixel: budget.lights; where none is set nothing is found"),
        ),
        observe,
        conclude,
    )
)  # fmt: skip

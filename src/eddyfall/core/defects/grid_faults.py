"""grid.leak, grid.seam, grid.uncovered: things that move and get their light from around by a light grid, or by none."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.frame.grid_store import WIDTH
from eddyfall.core.scene.changes import Change, Operation, set_leaf
from eddyfall.core.scene.names import short_id
from eddyfall.core.truth.reflections.gridded import Gridded, gridded

LIMIT_STOPS = 0.25  # of a thing on the mean (ours, changeable)
LIMIT_SHARE = 0.05  # of a thing's pixels that no grid may hold; of what it gets from points that do not see it
LEAST_DUE_LX = 1e-3
MARGIN_M = 0.5  # beyond the places where a thing is seen that a grid is laid
SPACING_M = 1.5
SMOOTHED = 0.14  # takes the dip behind light from one side away
MOST_POINTS = 64


@dataclass(frozen=True)
class Seen:
    """What is wrong with the light of a thing that moves: code, value, its limit; pixels, region and picture of it."""

    code: str
    thing: Gridded
    value: float
    limit: float
    pixels: int
    region: tuple[int, int, int, int]
    picture: np.ndarray | None


def judged(g: Gridded) -> list[tuple[str, float, float]]:
    """(code, value, limit) of what is wrong with a thing's light."""
    found = []
    if g.uncovered > LIMIT_SHARE and g.due > LEAST_DUE_LX and abs(g.off_stops) > LIMIT_STOPS:
        found.append(("grid.uncovered", g.uncovered, LIMIT_SHARE))
    if g.leak_stops > LIMIT_STOPS and g.unseen > LIMIT_SHARE:
        found.append(("grid.leak", g.leak_stops, LIMIT_STOPS))
    elif g.seam_stops > LIMIT_STOPS and g.uncovered <= LIMIT_SHARE:
        found.append(("grid.seam", g.seam_stops, LIMIT_STOPS))
    return found


def observe(survey: Survey, viewpoint: str) -> list[Seen]:
    """What is wrong there with things that move."""
    if not any(n.moves for n in survey.build.setup.nodes.values()):
        return []
    found = []
    frame = survey.frame(viewpoint)
    names = {d.name: k for k, d in enumerate(frame.geometry.drawables)}
    for thing in gridded(survey.renderer, survey.build, survey.request(viewpoint)):
        mask = frame.drawable == names[thing.drawable]
        for code, value, limit in judged(thing):
            found.append(Seen(code, thing, value, limit, int(mask.sum()), region_of(mask), survey.painted(viewpoint, mask)))
    return found


def conclude(survey: Survey, seen: dict[str, list[Seen]]) -> list[Suspicion]:
    """One suspicion for each fault of each grid, or of each thing that none holds."""
    causes = sorted({(s.code, _cause(s)) for found in seen.values() for s in found})
    return [_suspicion(survey, code, cause, seen) for code, cause in causes]


def _cause(s: Seen) -> str:
    return s.thing.drawable if s.code == "grid.uncovered" or not s.thing.grids else s.thing.grids[0]


def _suspicion(survey: Survey, code: str, cause: str, seen: dict[str, list[Seen]]) -> Suspicion:
    where = {v: mine for v, found in seen.items() if (mine := [s for s in found if (s.code, _cause(s)) == (code, cause)])}
    view = max(where, key=lambda v: max(s.value for s in where[v]))
    worst = max(where[view], key=lambda s: s.value)
    g = worst.thing
    titles = {
        "grid.uncovered": f"{g.drawable} moves where no light grid is, at {view}: {g.off_stops:+.2f} stops off what is due",
        "grid.leak": f"Grid {cause} lights {g.drawable} at {view} from points that do not see it",
        "grid.seam": f"{g.drawable} is {g.seam_stops:.2f} stops further off than {g.neighbour} beside it, at {view}",
    }
    unit = "share" if code == "grid.uncovered" else "stops"
    return Suspicion(
        code=code, cause_kind="grid" if code != "grid.uncovered" else "node", cause=cause, title=titles[code],
        subjects=tuple(dict.fromkeys(s.thing.drawable for found in where.values() for s in found)), value=worst.value, limit=worst.limit,
        evidence=(
            Evidence(measure=f"{MEASURES[code]} at {view}", value=worst.value, unit=unit, limit=worst.limit, picture=worst.picture),
            Evidence(measure=f"light from around that {g.drawable} gets", value=g.drawn, unit="lx"),
            Evidence(measure="light from around that is due to it", value=g.due, unit="lx", source="light's paths"),
            Evidence(measure="share of it from points that do not see it", value=g.unseen, unit="share"),
        ),
        pixels={v: sum(s.pixels for s in found) for v, found in where.items()},
        regions={v: found[0].region for v, found in where.items()},
        candidates=tuple(_candidates(survey, code, cause, g)) if survey.pictures else (), facts={"viewpoint": view},
    )  # fmt: skip


MEASURES = {
    "grid.uncovered": "share of it that no grid holds",
    "grid.leak": "stops that points which do not see it change it by",
    "grid.seam": "stops further off what is due than what is baked beside it",
}


def _candidates(survey: Survey, code: str, cause: str, g: Gridded) -> Iterator[Candidate]:
    for change, predicts, costs in ways(survey, code, cause, g):
        yield Candidate(change=change, predicts=predicts, costs=costs)


def ways(survey: Survey, code: str, cause: str, g: Gridded) -> Iterator[tuple[Change, str, tuple[Cost, ...]]]:
    """(change, what it does, what it costs)."""
    grids = survey.build.setup.grids
    if code == "grid.uncovered":
        low, high, counts = _around(survey, g.drawable)
        name = next(n for n in (g.drawable, *(f"{g.drawable} {k}" for k in range(2, 1000))) if n not in grids)
        yield (
            _placed(name, {"low_m": low, "high_m": high, "counts": counts}, f"a light grid around {g.drawable}"),
            "it gets what arrives around it", (grid_bytes(counts),),
        )  # fmt: skip
        return
    if cause not in grids:
        return
    grid = grids[cause]
    if code == "grid.leak" and not grid.sees:
        yield (
            _set(survey, cause, "sees", True, f"points of grid {cause} leave alone what they do not see"),
            "by the distances they captured, as far as they tell", (),
        )  # fmt: skip
    if code == "grid.seam" and grid.smoothed < SMOOTHED:
        change = _set(survey, cause, "smoothed", SMOOTHED, f"harmonics of grid {cause} smoothed")
        yield change, "rings less where light comes from one side", ()
    finer = [min(2 * n - 1, MOST_POINTS) for n in grid.counts]
    if finer != list(grid.counts):
        change = _placed(cause, {"counts": finer}, f"grid {cause} twice as fine")
        yield change, "points stand half as far apart", (grid_bytes(finer, grid.counts),)


def _around(survey: Survey, drawable: str) -> tuple[list[float], list[float], list[int]]:
    """(low, high, counts) of a box around a thing, with room to move."""
    d = next(d for d in survey.geometry.drawables if d.name == drawable)
    low, high = np.array(d.low) - MARGIN_M, np.array(d.high) + MARGIN_M
    counts = [int(np.clip(np.ceil((b - a) / SPACING_M) + 1, 2, MOST_POINTS)) for a, b in zip(low, high)]
    return [round(float(v), 3) for v in low], [round(float(v), 3) for v in high], counts


def _placed(name: str, told: dict[str, object], title: str) -> Change:
    operation = Operation(name="grids.place", params={"grid": name, "set": told})
    return Change(id=short_id(title), title=title, scope="project", operation=operation)


def grids_anew(name: str) -> Change:
    """A change that captures a grid as things are now."""
    title = f"capture grid {name} anew"
    return Change(
        id=short_id(title), title=title, scope="project", operation=Operation(name="grids.capture", params={"grids": [name]})
    )


def _set(survey: Survey, name: str, leaf: str, value: object, title: str) -> Change:
    return set_leaf(survey.build, ("grids", name, leaf), value, scope="project", title=title)


def grid_bytes(counts: object, instead_of: object = None) -> Cost:
    """What a grid takes: a row of half floats a point."""

    def taken(of: object) -> int:
        return int(np.prod(np.array(of))) * WIDTH * 8

    return Cost("memory", taken(counts) - (taken(instead_of) if instead_of is not None else 0), "bytes")


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """Ways for the subject, if it moves."""
    if not survey.stage(viewpoint).state.moves[subject]:
        return []
    name = survey.geometry.drawables[subject].name
    thing = next((g for g in gridded(survey.renderer, survey.build, survey.request(viewpoint)) if g.drawable == name), None)
    found = []
    for code in MEASURES if thing is not None else ():
        cause = name if code == "grid.uncovered" or not thing.grids else thing.grids[0]  # type: ignore[union-attr]
        for change, predicts, _ in ways(survey, code, cause, thing):  # type: ignore[arg-type]
            found.append(
                Lever(pass_name="indirect", change=change, predicts=predicts, because="it moves: its light comes from a grid")
            )
    return found


def _code(kind: str, words: str, limit: str, symptom: str) -> Code:
    return Code(code=f"grid.{kind}", words=words, kind="Light", sheet="light", symptom=symptom, limit=limit)


FAMILY = register(
    Family(
        "light grids",
        (
            _code(
                "leak",
                "A light grid lights things from points that do not see them",
                f"stops that those change it by: {LIMIT_STOPS:g}",
                "too bright",
            ),
            _code(
                "seam",
                "A thing that moves stands out from what is baked beside it",
                f"stops further off what is due: {LIMIT_STOPS:g}",
                "too bright",
            ),
            _code("uncovered", "Things move where no light grid is", f"share of its pixels: {LIMIT_SHARE:g}", "too dark"),
        ),
        observe,
        conclude,
        levers,
        symptoms=("too dark", "too bright"),
    )
)

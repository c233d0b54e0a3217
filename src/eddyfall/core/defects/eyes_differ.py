"""order.eyes: blended things that the two eyes of a headset draw in different orders: one eye shows what the other does not.

Where the setup says how far apart the eyes are. Looked for at each viewpoint and in the middle of each stretch of its moves on which the
eyes' keys disagree."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Suspicion
from eddyfall.core.defects.draw_order import moves_of
from eddyfall.core.defects.order_ways import order_ways
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.layers.eyes import MOST_SEEN, Band, Differs, bands, differing
from eddyfall.core.layers.pairs import LEAST_PIXELS
from eddyfall.core.passes.contract import Camera
from eddyfall.core.passes.draw_order import blended_in, sorting
from eddyfall.core.scene.changes import set_resolved
from eddyfall.core.scene.setup.sections.order import Order

CODE = "order.eyes"


@dataclass(frozen=True)
class Seen:
    """A pair at a viewpoint: what differs, where that is ("": at the viewpoint, else on a move), m of its stretch, the camera there."""

    differs: Differs
    place: str
    wide_m: float
    camera: Camera


def observe(survey: Survey, viewpoint: str) -> dict[tuple[int, int], Seen] | None:
    """Pairs that the eyes draw differently at a viewpoint and on the moves that go from it."""
    order = survey.resolved(viewpoint)[Order]
    gap = order.eye_gap_mm / 1000
    stage = survey.stage(viewpoint)
    chosen = blended_in(stage.state)
    if gap <= 0 or order.eyes == "shared" or order.method != "sorted" or len(chosen) < 2:
        return None
    found: dict[tuple[int, int], Seen] = {}
    poses: list[tuple[str, float, Camera]] = [("", 0.0, survey.frame(viewpoint, "in_view").camera)]
    for path in moves_of(survey, viewpoint):
        for band in bands(survey.geometry, path, sorting(stage), chosen, gap, survey.size)[:MOST_SEEN]:
            camera = path.at((band.from_s + band.to_s) / 2)
            poses.append((f"{path.name}, {_stretch(band)}", _wide(band), camera))
    for place, wide, camera in poses:
        for one in differing(survey.renderer, survey.build, survey.request(viewpoint), camera, gap, False):
            key = (min(one.left, one.right), max(one.left, one.right))
            if key not in found or one.pixels > found[key].differs.pixels:
                found[key] = Seen(one, place, wide, camera)
    return found


def _wide(band: Band) -> float:
    return float(np.linalg.norm(np.subtract(band.to_eye, band.from_eye)))


def _stretch(band: Band) -> str:
    """A stretch of a move by the axis that it goes along, or by time where the camera stands."""
    way = np.abs(np.subtract(band.to_eye, band.from_eye))
    axis = int(way.argmax())
    if way[axis] < 1e-6:
        return f"{band.from_s:.3f} to {band.to_s:.3f} s"
    return f"{'xyz'[axis]} = {band.from_eye[axis]:.3f} to {band.to_eye[axis]:.3f} m"


def conclude(survey: Survey, seen: dict[str, dict[tuple[int, int], Seen] | None]) -> list[Suspicion]:
    """One suspicion for each pair."""
    there = {v: s for v, s in seen.items() if s}
    names, result = [d.name for d in survey.geometry.drawables], []
    for key in dict.fromkeys(k for of in there.values() for k in of):
        by = {v: of[key] for v, of in there.items() if key in of}
        view = max(by, key=lambda v: by[v].differs.pixels)
        worst = by[view]
        a, b = sorted((names[key[0]], names[key[1]]))
        place = f"along {worst.place}" if worst.place else f"at {view}"
        result.append(
            Suspicion(
                code=CODE, cause_kind="drawables", cause=f"{a} | {b}", subjects=(a, b), value=float(worst.differs.pixels),
                limit=LEAST_PIXELS, title=f"the eyes draw {a} and {b} in different orders {place}",
                evidence=(
                    Evidence(measure=f"pixels of the {worst.differs.eye} eye that the other's order would change {place}",
                             value=worst.differs.pixels, unit="px", limit=LEAST_PIXELS,
                             picture=None if worst.place else survey.painted(view, worst.differs.where)),
                    Evidence(measure="the most by which they change", value=worst.differs.worst, unit="CIEDE2000",
                             limit=VISIBLE_DIFFERENCE),
                    Evidence(measure="on so much of the way", value=worst.wide_m, unit="m",
                             source=f"eyes {survey.resolved(view)[Order].eye_gap_mm:g} mm apart"),
                ),
                pixels={v: s.differs.pixels for v, s in by.items()}, regions={v: region_of(s.differs.where) for v, s in by.items()},
                candidates=tuple(_ways(survey, view, a, b, [s.camera for s in by.values()])) if survey.pictures else (),
            )
        )  # fmt: skip
    return result


def _ways(survey: Survey, viewpoint: str, a: str, b: str, cameras: list[Camera]) -> list[Candidate]:
    change = set_resolved(
        survey.build, survey.resolved(viewpoint), {"order.eyes": "shared"}, title="sort for both eyes from between them"
    )
    found = [Candidate(change=change, predicts="both eyes show the same order, right or wrong; reaches the whole scene")]
    ways = order_ways(survey, viewpoint, a, b, cameras)
    return [*found, *(w for w in ways if "share" in w.change.title or "depth along the view" in w.change.title)]


FAMILY = register(
    Family(
        "eyes that differ",
        (
            Code(code=CODE, words="The two eyes of a headset draw blended things in different orders", kind="Transparency",
                 symptom="differs between the eyes", sheet="draw-order",
                 limit=f"pixels of an eye that the other's order changes by more than CIEDE2000 {VISIBLE_DIFFERENCE:g}: {LEAST_PIXELS}"),
        ),
        observe,
        conclude,
    )
)  # fmt: skip

"""What a build of an older release gets by what there is now, as a document."""

from typing import Self

from eddyfall.core.handover.documents.base import Anything, Document
from eddyfall.core.truth.older.fills import Fill
from eddyfall.core.truth.older.migrate import Absent, Migration, Step
from eddyfall.core.truth.older.reach import Reach


class LeafDocument(Document):
    """A leaf that the document does not say, and what it arrives with."""

    leaf: str
    default: Anything


class AbsentDocument(Document):
    """A section that the document does not have (whole), or leaves it leaves out; on: whether it does anything as it arrives."""

    section: str
    whole: bool
    on: bool
    leaves: list[LeafDocument]

    @classmethod
    def from_core(cls, a: Absent) -> Self:
        return cls(section=a.section, whole=a.whole, on=a.on, leaves=[LeafDocument(leaf=k, default=v) for k, v in a.leaves])


class SurfaceStops(Document):
    """Stops by which a surface changes."""

    drawable: str
    stops: float


class StepSeenDocument(Document):
    """At a viewpoint: stops of the whole frame, and of the surfaces that change most."""

    viewpoint: str
    stops: float
    surfaces: list[SurfaceStops]


class StepDocument(Document):
    """What a section does once it is switched on."""

    section: str
    seen: list[StepSeenDocument]

    @classmethod
    def from_core(cls, s: Step) -> Self:
        seen = [
            StepSeenDocument(viewpoint=v, stops=stops, surfaces=[SurfaceStops(drawable=d, stops=x) for d, x in surfaces])
            for v, stops, surfaces in s.seen
        ]
        return cls(section=s.section, seen=seen)


class FillDocument(Document):
    """A light where it gave a good part of the frame: stops above that with bounce, with it and without it; whether bounce doubles it."""

    light: str
    viewpoint: str
    above: float
    without: float
    doubles: bool

    @classmethod
    def from_core(cls, f: Fill) -> Self:
        return cls(light=f.light, viewpoint=f.viewpoint, above=f.above, without=f.without, doubles=f.doubles)


class ReachDocument(Document):
    """A lamp: its range (0: endless), pixels it is worked out for and lights; the least range that keeps these [closed form], share of them
    that it keeps, rendered, and pixels it is then worked out for."""

    light: str
    range_m: float
    pixels: int
    lit: int
    least_m: float
    kept: float
    pixels_then: int

    @classmethod
    def from_core(cls, r: Reach) -> Self:
        return cls(
            light=r.light,
            range_m=r.range_m,
            pixels=r.pixels,
            lit=r.lit,
            least_m=r.least_m,
            kept=r.kept,
            pixels_then=r.pixels_then,
        )


class MigrationDocument(Document):
    """All of it; stale: lightmaps and probes that no longer fit, or are not there; notes of the intake: what is missing."""

    absent: list[AbsentDocument]
    steps: list[StepDocument]
    fills: list[FillDocument]
    reaches: list[ReachDocument]
    stale: list[str]
    notes: list[str]

    @classmethod
    def from_core(cls, m: Migration, stale: list[str], notes: tuple[str, ...]) -> Self:
        return cls(
            absent=[AbsentDocument.from_core(a) for a in m.absent], steps=[StepDocument.from_core(s) for s in m.steps],
            fills=[FillDocument.from_core(f) for f in m.fills], reaches=[ReachDocument.from_core(r) for r in m.reaches],
            stale=stale, notes=list(notes),
        )  # fmt: skip

"""Reflection probes and planar mirrors, as a document."""

from typing import Self

from eddyfall.core.bake.captures.records import Fit
from eddyfall.core.defects.grid_faults import grid_bytes
from eddyfall.core.defects.reflection_ways import bytes_of
from eddyfall.core.defects.reflections_told import GridTold, MirrorTold, ProbeTold, Reflections
from eddyfall.core.handover.documents.base import Document
from eddyfall.core.truth.reflections.gridded import Gridded
from eddyfall.core.truth.reflections.mirrored import LeftOut
from eddyfall.core.truth.reflections.probed import Probed


class FitDocument(Document):
    """How a probe fits in a light set: missing, or why what it holds no longer does; empty: it does."""

    light_set: str | None
    missing: bool
    why: list[str]

    @classmethod
    def from_core(cls, f: Fit) -> Self:
        return cls(light_set=f.light_set, missing=f.missing, why=list(f.why))


class ProbedDocument(Document):
    """A probe as a viewpoint sees it: share of the frame that takes from it and surfaces; parallax in px, of half of its places no more
    than the first, of nineteen in twenty than the second; share of places where it shows another thing than is due, and stops by which that
    shows; share of its light that goes to places it does not see, stops that those are off, surfaces; px that a texel looks wide; stops of
    the step where it gives way to another (empty: to what lights it otherwise); codes of what is wrong; px that a place
    that was asked about is shown off (null: none was, or it is mirrored nowhere)."""

    viewpoint: str
    pixels: float
    surfaces: list[str]
    parallax_px: float
    parallax_px_most: float
    worst: list[int]
    wrong: float
    parallax_stops: float
    unseen: float
    leak_stops: float
    leaks_onto: list[str]
    texel_px: float
    seam_stops: float
    seam_with: str
    faults: list[str]
    at_px: float | None

    @classmethod
    def from_core(cls, viewpoint: str, p: Probed, faults: tuple[str, ...]) -> Self:
        return cls(
            viewpoint=viewpoint, pixels=p.pixels, surfaces=list(p.surfaces), parallax_px=p.parallax_px[0],
            parallax_px_most=p.parallax_px[1], worst=list(p.worst), wrong=p.wrong, parallax_stops=p.parallax_stops, unseen=p.unseen,
            leak_stops=p.leak_stops, leaks_onto=list(p.leaks_onto), texel_px=p.texel_px, seam_stops=p.seam_stops, seam_with=p.seam_with,
            faults=list(faults), at_px=p.at_px,
        )  # fmt: skip


class ProbeDocument(Document):
    """A probe: as the setup has it, bytes of its map with all levels, how it fits, as viewpoints see it."""

    name: str
    on: bool
    place_m: list[float]
    low_m: list[float]
    high_m: list[float]
    boxed: bool
    blend_m: float
    sees: bool
    size: int
    bytes: int
    fits: list[FitDocument]
    seen: list[ProbedDocument]

    @classmethod
    def from_core(cls, t: ProbeTold) -> Self:
        p = t.probe
        return cls(
            name=t.name, on=p.on, place_m=list(p.place_m), low_m=list(p.low_m), high_m=list(p.high_m), boxed=p.boxed, blend_m=p.blend_m,
            sees=p.sees, size=p.size, bytes=int(bytes_of(p.size).value),
            fits=[FitDocument.from_core(f) for f in t.fits],
            seen=[ProbedDocument.from_core(*seen) for seen in t.seen],
        )  # fmt: skip


class LeftOutDocument(Document):
    """Things that a mirror does not show, since their base shader is not drawn in mirrors; share of mirror pixels that ought to."""

    shader: str
    things: list[str]
    share: float

    @classmethod
    def from_core(cls, g: LeftOut) -> Self:
        return cls(shader=g.shader, things=list(g.things), share=g.share)


class MirroredDocument(Document):
    """A mirror as a viewpoint sees it."""

    viewpoint: str
    pixels: int
    left_out: list[LeftOutDocument]


class MirrorDocument(Document):
    """A planar mirror."""

    name: str
    on: bool
    node: str
    divisor: int
    seen: list[MirroredDocument]

    @classmethod
    def from_core(cls, t: MirrorTold) -> Self:
        seen = [
            MirroredDocument(viewpoint=v, pixels=pixels, left_out=[LeftOutDocument.from_core(g) for g in gaps])
            for v, pixels, gaps in t.seen
        ]
        return cls(name=t.name, on=t.mirror.on, node=t.mirror.node, divisor=t.mirror.divisor, seen=seen)


class GridDocument(Document):
    """A light grid: as the setup has it, bytes of its points, how it fits."""

    name: str
    on: bool
    low_m: list[float]
    high_m: list[float]
    counts: list[int]
    sees: bool
    smoothed: float
    bytes: int
    fits: list[FitDocument]

    @classmethod
    def from_core(cls, t: GridTold) -> Self:
        g = t.grid
        return cls(
            name=t.name, on=g.on, low_m=list(g.low_m), high_m=list(g.high_m), counts=list(g.counts), sees=g.sees, smoothed=g.smoothed,
            bytes=int(grid_bytes(g.counts).value), fits=[FitDocument.from_core(f) for f in t.fits],
        )  # fmt: skip


class MoverDocument(Document):
    """A thing that moves, at a viewpoint: grids that hold it, share of its pixels that none does, lx of light from around that it gets and
    that are due, stops between the two; share of it from points that do not see it, stops that those change it by; stops further off than
    a baked neighbour of its material (empty: none is seen); codes of what is wrong."""

    viewpoint: str
    drawable: str
    pixels: int
    grids: list[str]
    uncovered: float
    drawn: float
    due: float
    off_stops: float
    unseen: float
    leak_stops: float
    seam_stops: float
    neighbour: str
    faults: list[str]

    @classmethod
    def from_core(cls, viewpoint: str, g: Gridded, faults: tuple[str, ...]) -> Self:
        return cls(
            viewpoint=viewpoint, drawable=g.drawable, pixels=g.pixels, grids=list(g.grids), uncovered=g.uncovered, drawn=g.drawn, due=g.due,
            off_stops=g.off_stops, unseen=g.unseen, leak_stops=g.leak_stops, seam_stops=g.seam_stops, neighbour=g.neighbour,
            faults=list(faults),
        )  # fmt: skip


class EyeDocument(Document):
    """Where a viewpoint's eye is, and the direction it looks in."""

    viewpoint: str
    eye: list[float]
    forward: list[float]


class ReflectionsDocument(Document):
    """All reflection probes, planar mirrors and light grids of a build, and what things that move get of these."""

    probes: list[ProbeDocument]
    mirrors: list[MirrorDocument]
    grids: list[GridDocument]
    movers: list[MoverDocument]
    views: list[EyeDocument]

    @classmethod
    def from_core(cls, r: Reflections) -> Self:
        return cls(
            probes=[ProbeDocument.from_core(p) for p in r.probes], mirrors=[MirrorDocument.from_core(m) for m in r.mirrors],
            grids=[GridDocument.from_core(g) for g in r.grids], movers=[MoverDocument.from_core(*m) for m in r.movers],
            views=[EyeDocument(viewpoint=v, eye=list(eye), forward=list(forward)) for v, eye, forward in r.views],
        )  # fmt: skip

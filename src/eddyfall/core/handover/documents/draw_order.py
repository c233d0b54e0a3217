"""The draw order of blended things as documents: at a frame, at a pixel, along a move."""

import math
from typing import Self

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.handover.documents.base import Document, Finite
from eddyfall.core.layers.along_move import LOOKED_AT, Line, Walked
from eddyfall.core.layers.capture import Layers
from eddyfall.core.layers.census import Census
from eddyfall.core.layers.flips import Pop
from eddyfall.core.layers.floor import Floor
from eddyfall.core.layers.level import Level
from eddyfall.core.layers.pairs import Pair, apart
from eddyfall.core.layers.strata import Strata, Stratum
from eddyfall.core.layers.written import Covered, covered_in
from eddyfall.core.shade.blend import VOLUME


class PairDocument(Document):
    """`early` is drawn before `late` though it is nearer: pixels that differ visibly with the two put right, sum of nits, worst
    CIEDE2000."""

    early: str
    late: str
    pixels: int
    nit_px: float
    worst: float

    @classmethod
    def from_core(cls, p: Pair, names: list[str]) -> Self:
        return cls(early=names[p.early], late=names[p.late], pixels=p.pixels, nit_px=p.nit_px, worst=p.worst)


class CoveredDocument(Document):
    """Blended things that one which wrote its depth before them hides: pixels that differ visibly without them, what they would add."""

    writer: str
    hidden: list[str]
    pixels: int
    nit_px: float

    @classmethod
    def from_core(cls, c: Covered, names: list[str]) -> Self:
        return cls(writer=names[c.writer], hidden=[names[d] for d in c.hidden], pixels=c.pixels, nit_px=c.nit_px)


class LevelDocument(Document):
    """Two things at one depth, of which depth does not say which is in front: first is drawn before second; stages: because first is
    solid, though it stands before second; pixels that would differ visibly the other way round."""

    first: str
    second: str
    stages: bool
    pixels: int

    @classmethod
    def from_core(cls, c: Level, names: list[str]) -> Self:
        return cls(first=names[c.first], second=names[c.second], stages=c.stages, pixels=c.pixels)


class FrameOrderDocument(Document):
    """A viewpoint: how layers are put together, key and point that things are sorted by; blended drawables in sight in the order they are
    drawn, those of them that are boxes of mist; pairs that are off; what is hidden by depth that something blended wrote; pairs at one
    depth whose order shows; pixels that differ visibly from all layers of each pixel drawn farthest first."""

    viewpoint: str
    method: str
    key: str
    point: str
    size: list[int]
    order: list[str]
    volumes: list[str]
    pairs: list[PairDocument]
    hidden: list[CoveredDocument]
    level: list[LevelDocument]
    off_px: int

    @classmethod
    def from_core(cls, viewpoint: str, layers: Layers, pairs: list[Pair], levels: list[Level]) -> Self:
        names = [d.name for d in layers.frame.geometry.drawables]
        off = apart(layers.frame, layers.drawn, layers.due) > VISIBLE_DIFFERENCE
        return cls(
            viewpoint=viewpoint, method=layers.by.method, key=layers.by.key, point=layers.by.point, size=list(layers.frame.pixels.size),
            order=[names[d] for d in layers.order], volumes=[names[d] for d in layers.order if layers.by.blend[d] == VOLUME],
            pairs=[PairDocument.from_core(p, names) for p in pairs],
            hidden=[CoveredDocument.from_core(c, names) for c in covered_in(layers)],
            level=[LevelDocument.from_core(c, names) for c in levels if c.pixels], off_px=int(off.sum()),
        )  # fmt: skip


class StratumDocument(Document):
    """One layer of a pixel, as `Stratum` has it."""

    drawable: str
    kind: str
    far_m: float
    keep: list[float]
    lay: list[float]
    share: list[float]
    true_share: list[float]
    place: str
    against: list[str]

    @classmethod
    def from_core(cls, s: Stratum) -> Self:
        return cls(
            drawable=s.drawable, kind=s.kind, far_m=s.far_m, keep=list(s.keep), lay=list(s.lay), share=list(s.share),
            true_share=list(s.true_share), place=s.place, against=list(s.against),
        )  # fmt: skip


class StrataDocument(Document):
    """The layers of a pixel, in the order they are drawn; true: their numbers in the order they lie, the farthest first. solid_m: m to what
    is solid, copied_m: to what the depth copy says for all of them (null: to none)."""

    pixel: list[int]
    strata: list[StratumDocument]
    true: list[int]
    opaque: list[float]
    drawn: list[float]
    due: list[float]
    solid_m: Finite
    copied_m: Finite

    @classmethod
    def from_core(cls, s: Strata) -> Self:
        return cls(
            pixel=list(s.pixel), strata=[StratumDocument.from_core(t) for t in s.strata], true=list(s.true), opaque=list(s.opaque),
            drawn=list(s.drawn), due=list(s.due), solid_m=s.solid_m, copied_m=s.copied_m,
        )  # fmt: skip


class PopDocument(Document):
    """Two lanes cross: what was drawn first before and after, when, where the eye is, what that does to the picture."""

    first: str
    second: str
    t_s: float
    eye: list[float]
    pixels: int
    nit_px: float
    worst: float
    off_before: int
    off_after: int
    turn: str

    @classmethod
    def from_core(cls, p: Pop, names: list[str]) -> Self:
        return cls(
            first=names[p.flip.first], second=names[p.flip.second], t_s=p.flip.t_s, eye=list(p.flip.eye), pixels=p.pixels,
            nit_px=p.nit_px, worst=p.worst, off_before=p.off_before, off_after=p.off_after, turn=p.turn,
        )  # fmt: skip


class LookDocument(Document):
    """Pairs that are off at a moment; pixels of a frame of `looked_at` px."""

    t_s: float
    pairs: list[PairDocument]


class LaneDocument(Document):
    """A blended drawable along the move: its turn at each moment, 0 drawn first; its bounds from above (x0, z0, x1, z1) m."""

    drawable: str
    turns: list[int]
    bounds: list[float]


class LineDocument(Document):
    """Where two have equal keys: floor [nx, nz, c]: the eye on nx x + nz z = c; heading_deg to the right of -z."""

    first: str
    second: str
    floor: list[float] | None
    heading_deg: float | None

    @classmethod
    def from_core(cls, n: Line, names: list[str]) -> Self:
        floor = None if n.floor is None else list(n.floor)
        return cls(first=names[n.first], second=names[n.second], floor=floor, heading_deg=n.heading_deg)


class FlickerDocument(Document):
    """Two things that visibly change places so many times along a move, and so often within some second of it."""

    first: str
    second: str
    times: int
    in_a_second: int


class WalkedDocument(Document):
    """The draw order along a move."""

    move: str
    viewpoint: str
    key: str
    point: str
    size: list[int]
    looked_at: list[int]
    t_s: list[float]
    eyes: list[list[float]]
    forward: list[list[float]]
    lanes: list[LaneDocument]
    pops: list[PopDocument]
    looks: list[LookDocument]
    lines: list[LineDocument]
    flickers: list[FlickerDocument]
    undrawn: int
    wrong: bool

    @classmethod
    def from_core(cls, w: Walked, size: tuple[int, int]) -> Self:
        names = [d.name for d in w.geometry.drawables]
        bounds = w.geometry.bounds
        return cls(
            move=w.path.name, viewpoint=w.path.viewpoint, key=w.by.key, point=w.by.point, size=list(size), looked_at=list(LOOKED_AT),
            t_s=w.t_s.tolist(), eyes=w.eyes.tolist(), forward=w.forward.tolist(),
            lanes=[
                LaneDocument(drawable=names[d], turns=w.turns[:, k].tolist(), bounds=[float(v) for v in bounds[d][:, [0, 2]].ravel()])
                for k, d in enumerate(w.lanes)
            ],
            pops=[PopDocument.from_core(p, names) for p in w.pops],
            looks=[LookDocument(t_s=k.t_s, pairs=[PairDocument.from_core(p, names) for p in k.pairs]) for k in w.looks],
            lines=[LineDocument.from_core(n, names) for n in w.lines],
            flickers=[
                FlickerDocument(first=names[f.first], second=names[f.second], times=f.times, in_a_second=f.in_a_second) for f in w.flickers
            ],
            undrawn=w.undrawn, wrong=w.wrong,
        )  # fmt: skip


class CensusDocument(Document):
    """The alpha of a material, as `Census` has it; most: the largest open share of any texel; edge_texels: null where it is soft without
    any hole; wired: alpha is nothing but the brightness of the colour."""

    material: str
    texels: int
    open: float
    most: float
    clear: float
    solid: float
    edge_texels: float | None
    hole: int
    advice: str
    holes: int = 0
    area_m2: float = 0.0
    follows: float = 0.0
    wired: bool = False

    @classmethod
    def from_core(cls, c: Census) -> Self:
        edge = c.edge_texels if math.isfinite(c.edge_texels) else None
        return cls(
            material=c.material,
            texels=c.texels,
            open=c.open,
            most=c.most,
            clear=c.clear,
            solid=c.solid,
            edge_texels=edge,
            hole=c.hole,
            advice=c.advice,
            holes=c.holes,
            area_m2=c.area_m2,
            follows=c.follows,
            wired=c.wired,
        )


class FloorPairDocument(Document):
    """Two blended things on a floor: m2 on which one lies before the other, on which they are drawn the wrong way round there, on which the
    first is drawn first at all; cells: a row for each step along z, a character for each along x: "." neither lies before the other, "o" in
    order, "x" wrong."""

    first: str
    second: str
    over_m2: float
    wrong_m2: float
    first_drawn_m2: float
    cells: list[str]


class FloorDocument(Document):
    """A floor from x0, z0 (m) on in cells of cell_m, eyes at height_m; left_out: blended things that were too many to ask about."""

    x0: float
    z0: float
    cell_m: float
    height_m: float
    pairs: list[FloorPairDocument]
    left_out: int

    @classmethod
    def from_core(cls, f: Floor, names: list[str]) -> Self:
        cell = f.cell_m**2
        pairs = [
            FloorPairDocument(
                first=names[p.first], second=names[p.second], over_m2=float((p.in_front > 0).sum() * cell),
                wrong_m2=float(p.wrong.sum() * cell), first_drawn_m2=float(p.first_drawn.sum() * cell),
                cells=["".join(row) for row in np.where(p.wrong, "x", np.where(p.in_front > 0, "o", ".")).tolist()],
            )
            for p in f.pairs
        ]  # fmt: skip
        return cls(x0=f.x0, z0=f.z0, cell_m=f.cell_m, height_m=f.height_m, pairs=pairs, left_out=f.left_out)

"""What hangs on glass as documents: the chain at a pixel, what a frame loses behind it, plates behind things."""

import math
from typing import Any, Self

import numpy as np

from eddyfall.core.defects.glass_faults import Shut
from eddyfall.core.frame.render import Frame
from eddyfall.core.handover.documents.base import Document
from eddyfall.core.handover.documents.changes import optional_change
from eddyfall.core.layers.chain import Chain
from eddyfall.core.layers.glass_here import Behind, mended
from eddyfall.core.layers.links import Link
from eddyfall.core.layers.lost import Lost
from eddyfall.core.layers.plates import Plates
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.sections.refract import Refract


class LinkDocument(Document):
    """One link of the chain: its value, what it needs, the leaf or file that decides it; fix: what would make it hold, and the change
    that does it; null where it holds or only another file can mend it."""

    name: str
    value: str
    need: str
    decides: str
    holds: bool
    fix: str | None
    change: dict[str, Any] | None

    @classmethod
    def from_core(cls, link: Link, build: Build) -> Self:
        change = None if link.fix is None else mended(build, [link.fix])
        return cls(
            name=link.name, value=link.value, need=link.need, decides=link.decides, holds=link.holds,
            fix=None if link.fix is None else link.fix.title, change=optional_change(change),
        )  # fmt: skip


class BehindDocument(Document):
    """What lies behind, nearest first: m from the eye (null: the sky), whether the copy holds it."""

    drawable: str
    kind: str
    far_m: float | None
    in_copy: bool

    @classmethod
    def from_core(cls, b: Behind) -> Self:
        return cls(drawable=b.drawable, kind=b.kind, far_m=b.far_m if math.isfinite(b.far_m) else None, in_copy=b.in_copy)


class ChainDocument(Document):
    """A pixel: links in their order, the first broken and the next (null: none); m to the glass; shares of what is behind: measured by
    two plates, as every link whole would give, as real glass does; px at which the copy is read, by how much that is off, by how much it
    would be in truth."""

    x: int
    y: int
    drawable: str
    material: str
    links: list[LinkDocument]
    first_broken: str | None
    next_broken: str | None
    behind: list[BehindDocument]
    far_m: float
    measured: list[float]
    whole: list[float]
    due: list[float]
    reads_px: list[float]
    bends_px: float
    true_px: float | None

    @classmethod
    def from_core(cls, c: Chain, build: Build, measured: np.ndarray) -> Self:
        broken = [link.name for link in c.broken]
        return cls(
            x=c.pixel[0], y=c.pixel[1], drawable=c.drawable, material=c.material,
            links=[LinkDocument.from_core(link, build) for link in c.links],
            first_broken=broken[0] if broken else None, next_broken=broken[1] if len(broken) > 1 else None,
            behind=[BehindDocument.from_core(b) for b in c.behind], far_m=c.far_m, measured=[float(v) for v in measured],
            whole=list(c.keeps), due=list(c.due), reads_px=list(c.reads), bends_px=c.bends_px, true_px=c.true_px,
        )  # fmt: skip


class ChainHere(Document):
    """The chain at a pixel; null where nothing that is meant to let light through lies."""

    chain: ChainDocument | None


class LostLayerDocument(Document):
    """A thing that is lost behind `panes`, and how; pixels off visibly, all in which it is lost, sum of nits, by what share the light there
    is too much."""

    drawable: str
    panes: list[str]
    how: str
    pixels: int
    all_pixels: int
    nit_px: float
    brighter: float

    @classmethod
    def from_core(cls, one: Lost, names: list[str]) -> Self:
        return cls(
            drawable=names[one.drawable], panes=[names[p] for p in one.panes], how=one.how, pixels=one.pixels,
            all_pixels=one.all_pixels, nit_px=one.nit_px, brighter=one.brighter,
        )  # fmt: skip


class ShutDocument(Document):
    """A material that is meant to let light through and does not: its things in sight, pixels, links that are broken, shares of what is
    behind that are kept and that real glass would keep."""

    material: str
    things: list[str]
    pixels: int
    broken: list[str]
    kept: float
    due: float


class GlassDocument(Document):
    """A viewpoint: things that let light through in sight, layers of them that are drawn, what is lost; what lets none through."""

    viewpoint: str
    size: list[int]
    panes: list[str]
    layers: int
    lost: list[LostLayerDocument]
    shut: list[ShutDocument]

    @classmethod
    def from_core(cls, viewpoint: str, frame: Frame, lost: list[Lost], shut: dict[str, Shut]) -> Self:
        names = [d.name for d in frame.geometry.drawables]
        through = [names[int(d)] for d in np.sort(frame.buffers["in_view"]) if frame.stage.state.refracts[d]]
        return cls(
            viewpoint=viewpoint, size=list(frame.pixels.size), panes=through, layers=frame.stage.resolved[Refract].layers,
            lost=[LostLayerDocument.from_core(one, names) for one in lost],
            shut=[
                ShutDocument(
                    material=material, things=list(s.things), pixels=int(s.where.sum()), broken=[link.name for link in s.broken],
                    kept=s.kept, due=s.due,
                )
                for material, s in shut.items()
            ],
        )  # fmt: skip


class PlatesDocument(Document):
    """Two plates behind things at a viewpoint: pixels under their triangles, means there of k and of b in nits (rgb), at: those of a pixel
    asked for, acts_as: the kind of blending that does the same."""

    viewpoint: str
    subjects: list[str]
    covered_px: int
    k: list[float]
    b: list[float]
    at: list[int] | None
    k_at: list[float] | None
    b_at: list[float] | None
    acts_as: str

    @classmethod
    def from_core(cls, viewpoint: str, subjects: list[str], p: Plates, at: tuple[int, int] | None) -> Self:
        here = p.covered if p.covered.any() else np.ones_like(p.covered)
        mean = [[float(v) for v in values[here].mean(axis=0)] for values in (p.k, p.b)]
        there = (None, None) if at is None else tuple([float(v) for v in values[at[1], at[0]]] for values in (p.k, p.b))
        return cls(
            viewpoint=viewpoint, subjects=subjects, covered_px=int(p.covered.sum()), k=mean[0], b=mean[1],
            at=None if at is None else list(at), k_at=there[0], b_at=there[1], acts_as=p.acts_as,
        )  # fmt: skip

"""How fine a light's shadows are at a viewpoint, each measure beside its limit, as a document."""

from typing import Self

from eddyfall.core.defects import shadow_coarse, shadow_holes, shadow_joins
from eddyfall.core.handover.documents.base import Document
from eddyfall.core.truth import softness
from eddyfall.core.truth.fineness import EVERY, Fineness
from eddyfall.core.truth.holes import HoleShare
from eddyfall.core.truth.joins import JoinGap
from eddyfall.core.truth.softness import SoftEdge
from eddyfall.core.truth.widths import LEAST_TEXELS, Thin


class EdgesDocument(Document):
    """Pixels within the filter of a true edge, and how many pixels a texel covers there at the median."""

    pixels: int
    pixels_a_texel: float
    limit: float


class JoinDocument(Document):
    """A join between two maps, numbered from 1: at so many metres; pixels along it that either shades; CIEDE2000 between the two there, and
    from one pixel to the next where one is mixed into the other over some pixels."""

    at_m: float
    nearer: int
    farther: int
    pixels: int
    delta_e: float
    wide_px: float
    step: float
    limit: float

    @classmethod
    def from_core(cls, g: JoinGap) -> Self:
        return cls(
            at_m=g.at_m, nearer=g.nearer + 1, farther=g.farther + 1, pixels=g.shaded, delta_e=g.delta_e, wide_px=g.wide_px, step=g.step,
            limit=shadow_joins.MOST,
        )  # fmt: skip


class HolesDocument(Document):
    """A cutout material: pixels inside its shadow, and the share of the light that is drawn there and that comes by rays."""

    material: str
    pixels: int
    drawn: float
    true: float
    limit: float

    @classmethod
    def from_core(cls, material: str, h: HoleShare) -> Self:
        return cls(material=material, pixels=len(h.rows) * EVERY**2, drawn=h.drawn, true=h.true, limit=shadow_holes.MOST)


class ThinDocument(Document):
    """A caster narrower than a texel: its width, the texel that serves its shadow, its width in texels, pixels that lack the shadow."""

    caster: str
    width_mm: float
    texel_mm: float
    texels: float
    pixels: int
    limit: float

    @classmethod
    def from_core(cls, caster: str, t: Thin) -> Self:
        return cls(
            caster=caster, width_mm=t.width_m * 1000, texel_mm=t.texel_m * 1000, texels=t.texels, pixels=len(t.rows) * EVERY**2,
            limit=LEAST_TEXELS,
        )  # fmt: skip


class SoftEdgesDocument(Document):
    """Edges thrown from gap_m in front: 10-90 % widths as drawn and by rays over the light's disc, times: the one over the other (neither
    taken for narrower than a pixel), limit: either way; pixels."""

    gap_m: float
    drawn_mm: float
    true_mm: float
    times: float
    pixels: int
    limit: float

    @classmethod
    def from_core(cls, e: SoftEdge) -> Self:
        return cls(
            gap_m=e.gap_m, drawn_mm=e.drawn_mm, true_mm=e.true_mm, times=e.times, pixels=len(e.rows) * EVERY**2, limit=softness.MOST
        )  # fmt: skip


class FinenessDocument(Document):
    """A light at a viewpoint: edges (null where no map serves one), joins by their step, holes by how far they are off, thin casters, the
    softness of edges by how far in front their casters stand (none where the light's diameter is not said)."""

    viewpoint: str
    light: str
    technique: str
    edges: EdgesDocument | None
    joins: list[JoinDocument]
    holes: list[HolesDocument]
    thin: list[ThinDocument]
    soft: list[SoftEdgesDocument]

    @classmethod
    def from_core(cls, f: Fineness) -> Self:
        e = f.edges
        return cls(
            viewpoint=f.viewpoint, light=f.light, technique=f.technique,
            edges=None if e is None else EdgesDocument(pixels=e.pixels, pixels_a_texel=e.pixels_a_texel, limit=shadow_coarse.MOST),
            joins=[JoinDocument.from_core(g) for g in f.joins], holes=[HolesDocument.from_core(*h) for h in f.holes],
            thin=[ThinDocument.from_core(*t) for t in f.thin], soft=[SoftEdgesDocument.from_core(e) for e in f.soft],
        )  # fmt: skip

    @property
    def beyond(self) -> bool:
        """Whether anything is past its limit."""
        return (
            (self.edges is not None and self.edges.pixels_a_texel > self.edges.limit)
            or any(j.step > j.limit for j in self.joins)
            or any(abs(h.drawn - h.true) > h.limit for h in self.holes)
            or any(t.texels < t.limit for t in self.thin)
            or any(max(e.times, 1 / e.times) > e.limit for e in self.soft)
        )

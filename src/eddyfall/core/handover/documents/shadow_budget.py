"""What a frame's shadows cost, light by light, beside the target's budget, as a document."""

from typing import Self

from eddyfall.core.handover.documents.base import Document
from eddyfall.core.truth.shadow_budget import COUNTED, MIB, FrameBudget, LightCost
from eddyfall.core.truth.shadow_costs import ShadowCost


class SpentDocument(Document):
    """MiB of maps, pools, trees and masks; maps drawn, draws and triangles into them, rays traced."""

    mib: float
    maps: int
    draws: int
    triangles: int
    rays: int

    @classmethod
    def from_core(cls, c: ShadowCost) -> Self:
        return cls(mib=c.bytes / MIB, maps=c.maps, draws=c.draws, triangles=c.triangles, rays=c.rays)


class LightSpentDocument(Document):
    """One light: what its shadows take; pixels on which one is due, and on which the picture has it."""

    light: str
    technique: str
    spent: SpentDocument
    due_px: int
    drawn_px: int

    @classmethod
    def from_core(cls, v: LightCost) -> Self:
        spent = SpentDocument.from_core(v.cost)
        return cls(light=v.light, technique=v.technique, spent=spent, due_px=v.due_px, drawn_px=v.drawn_px)


class LimitDocument(Document):
    """A limit of the target: the leaf of section `budget`, what is spent of it, and the limit; in MiB or a number."""

    leaf: str
    spent: float
    limit: float


class FrameBudgetDocument(Document):
    """One frame: its lights, what all of them take, the limits that are set."""

    viewpoint: str
    lights: list[LightSpentDocument]
    total: SpentDocument
    limits: list[LimitDocument]

    @classmethod
    def from_core(cls, b: FrameBudget) -> Self:
        return cls(
            viewpoint=b.viewpoint,
            lights=[LightSpentDocument.from_core(v) for v in b.lights],
            total=SpentDocument.from_core(b.total),
            limits=[LimitDocument(leaf=leaf, spent=b.spent(leaf), limit=b.limits[leaf]) for leaf in COUNTED if leaf in b.limits],
        )

    @property
    def over(self) -> bool:
        """Whether a limit is passed."""
        return any(limit.spent > limit.limit for limit in self.limits)

"""What passes that work from the frame alone hold in memory, target by target, as a document."""

from typing import Self

from eddyfall.core.handover.documents.base import Document
from eddyfall.core.truth.screen_budget import ScreenBudget


class TargetDocument(Document):
    """One target: the pass that holds it, its name, bytes a texel, one texel for divisor x divisor px, with mips, margin, all its bytes."""

    pass_name: str
    target: str
    texel_bytes: int
    divisor: int
    mips: bool
    margin_px: int
    bytes: int


class ScreenBudgetDocument(Document):
    """The targets of a frame of width x height px at a viewpoint, all their bytes, and the limit in MiB (0: none is set)."""

    viewpoint: str
    width_px: int
    height_px: int
    targets: list[TargetDocument]
    bytes: int
    limit_mib: float
    over: bool

    @classmethod
    def from_core(cls, viewpoint: str, b: ScreenBudget) -> Self:
        targets = [
            TargetDocument(
                pass_name=h.pass_name, target=h.target.name, texel_bytes=h.target.texel_bytes, divisor=h.target.divisor,
                mips=h.target.mips, margin_px=h.target.margin_px, bytes=h.bytes,
            )
            for h in b.held
        ]  # fmt: skip
        return cls(
            viewpoint=viewpoint, width_px=b.size[0], height_px=b.size[1], targets=targets, bytes=sum(t.bytes for t in targets),
            limit_mib=b.limit_mib, over=b.over,
        )  # fmt: skip

"""Where the two eyes of a headset draw blended things in different orders, as documents."""

from typing import Self

from eddyfall.core.handover.documents.base import Document
from eddyfall.core.layers.eyes import Band, Differs, ThroughBoth


class EyePairDocument(Document):
    """Two things that the eyes draw in different orders at a pose: what the left eye draws first; pixels that the other's order would
    visibly change, in the eye with more of them; the worst CIEDE2000."""

    left_first: str
    right_first: str
    eye: str
    pixels: int
    worst: float


class EyeBandDocument(Document):
    """A stretch of a move, in s and by where the camera stands between the eyes (m), on which they differ about two things; what is to be
    seen of it in its middle (null: nothing to speak of, or it was not drawn)."""

    first: str
    second: str
    from_s: float
    to_s: float
    from_eye: list[float]
    to_eye: list[float]
    drawn: bool
    seen: EyePairDocument | None


class EyesDocument(Document):
    """A viewpoint, or a move that is looked along: mm between the eyes, each or shared; pairs at the viewpoint, stretches of the move."""

    viewpoint: str
    move: str | None
    gap_mm: float
    eyes: str
    pairs: list[EyePairDocument]
    bands: list[EyeBandDocument]

    @classmethod
    def from_core(cls, of: ThroughBoth) -> Self:
        def pair(d: Differs) -> EyePairDocument:
            return EyePairDocument(
                left_first=of.names[d.left], right_first=of.names[d.right], eye=d.eye, pixels=d.pixels, worst=d.worst
            )

        def seen(band: Band, there: list[Differs] | None) -> EyePairDocument | None:
            return next((pair(d) for d in there or () if {d.left, d.right} == {band.first, band.second}), None)

        return cls(
            viewpoint=of.viewpoint, move=of.move, gap_mm=of.gap_m * 1000, eyes="shared" if of.shared else "each",
            pairs=[pair(d) for d in of.pairs],
            bands=[
                EyeBandDocument(
                    first=of.names[b.first], second=of.names[b.second], from_s=b.from_s, to_s=b.to_s, from_eye=list(b.from_eye),
                    to_eye=list(b.to_eye), drawn=there is not None, seen=seen(b, there),
                )
                for b, there in of.stretches
            ],
        )  # fmt: skip

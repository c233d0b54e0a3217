"""A light's shadow bias, solved: what each way of biasing takes and loses, the front, each point drawn again."""

from typing import Any, Self

from eddyfall.core.handover.documents.base import Document, Finite, Pair
from eddyfall.core.scene.changes import Change
from eddyfall.core.truth.bias.proving import AtTexel, Redrawn, SolvedBias
from eddyfall.core.truth.bias.solve import Bias, Lost, Outcome, Way


class BiasDocument(Document):
    """What a light's leaves say; normal_texels null: the project's own. words: the same in short."""

    constant_mm: float
    slope: float
    normal_texels: float | None
    along_plane: bool
    words: str

    @classmethod
    def from_core(cls, b: Bias) -> Self:
        return cls.model_validate({**vars(b), "words": b.words})


class LostDocument(Document):
    """What the shadow of the caster that loses most loses, in mm, against the most that may be (null: no caster was asked)."""

    caster: str
    lost_mm: float
    limit_mm: Finite

    @classmethod
    def from_core(cls, v: Lost) -> Self:
        return cls.model_validate(vars(v))


class OutcomeDocument(Document):
    """One bias. false_px: surfaces that darken themselves, at the viewpoint with most; foot, tip: what shadows lose; lift_mm: how far it
    lifts the middle surface towards the light; inside: both limits are kept."""

    way: str
    bias: BiasDocument
    false_px: int
    foot: LostDocument
    tip: LostDocument
    lift_mm: float
    inside: bool

    @classmethod
    def from_core(cls, v: Outcome) -> Self:
        return cls.model_validate({
            **vars(v), "bias": BiasDocument.from_core(v.bias), "foot": LostDocument.from_core(v.foot), "tip": LostDocument.from_core(v.tip),
        })  # fmt: skip


class WayDocument(Document):
    """One way of biasing: its smallest bias inside both limits, or what ends acne with the least loss and the texel (the light's largest,
    in mm) and edge of the maps at which it would be inside: a prediction."""

    name: str
    best: OutcomeDocument | None
    least: OutcomeDocument | None
    texel_mm: float | None
    resolution: int | None

    @classmethod
    def from_core(cls, w: Way) -> Self:
        best, least = (OutcomeDocument.from_core(v) if v else None for v in (w.best, w.least))
        return cls.model_validate({**vars(w), "best": best, "least": least})


class RedrawnDocument(Document):
    """One bias drawn again, at all viewpoints: pixels that darken themselves and points of shadows lost, as drawn and as thresholds said;
    change: what sets it."""

    outcome: OutcomeDocument
    false_px: int
    lost_points: int
    said_false_px: int
    said_lost_points: int
    same: bool
    change: dict[str, Any]

    @classmethod
    def from_core(cls, r: Redrawn) -> Self:
        outcome, change = OutcomeDocument.from_core(r.outcome), _change(r.change)
        return cls.model_validate({**vars(r), "outcome": outcome, "same": r.same, "change": change})


class AtTexelDocument(Document):
    """A way with no bias inside both limits, tried with finer maps; best null: they do not do either."""

    way: str
    resolution: int
    texel_mm: float
    best: OutcomeDocument | None
    change: dict[str, Any] | None

    @classmethod
    def from_core(cls, v: AtTexel) -> Self:
        best = OutcomeDocument.from_core(v.best) if v.best else None
        return cls.model_validate({**vars(v), "best": best, "change": _change(v.change) if v.change else None})


class ShadowBiasDocument(Document):
    """A light's bias over some viewpoints. texel_mm: smallest and largest that serve; asked_px, lines: what it was judged on; set_to: as it
    is; chosen: the smallest inside both limits of all ways, null if none is; front: what no other bias betters, drawn again."""

    light: str
    viewpoints: list[str]
    technique: str
    filter_px: int
    resolution: int
    texel_mm: Pair
    asked_px: int
    lines: int
    limit_px: int
    set_to: OutcomeDocument
    ways: list[WayDocument]
    chosen: OutcomeDocument | None
    front: list[RedrawnDocument]
    at_texel: AtTexelDocument | None

    @classmethod
    def from_core(cls, s: SolvedBias) -> Self:
        f = s.front
        return cls.model_validate({
            **vars(f), "viewpoints": list(f.viewpoints), "limit_px": f.limit_px, "set_to": OutcomeDocument.from_core(f.set_to),
            "ways": [WayDocument.from_core(w) for w in f.ways],
            "chosen": OutcomeDocument.from_core(f.chosen) if f.chosen else None,
            "front": [RedrawnDocument.from_core(r) for r in s.redrawn],
            "at_texel": AtTexelDocument.from_core(s.at_texel) if s.at_texel else None,
        })  # fmt: skip


def _change(change: Change) -> dict[str, Any]:
    return change.model_dump(mode="json", exclude_none=True)

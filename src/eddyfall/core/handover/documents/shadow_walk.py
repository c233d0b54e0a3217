"""A short walk from a viewpoint: which fixed places swim between light and shadow, as a document."""

from typing import Self

from eddyfall.core.defects.shadow_swims import MOST
from eddyfall.core.handover.documents.base import Document
from eddyfall.core.truth.walk import UNITS, CasterWalk, Step, Walk


class StepDocument(Document):
    """One step, `at` so far from the viewpoint: places that flip while the same map serves them, while another takes over, and because none
    serves any more."""

    at: float
    swims: int
    joined: int
    dropped: int

    @classmethod
    def from_core(cls, s: Step) -> Self:
        return cls.model_validate(vars(s))


class CasterWalkDocument(Document):
    """One caster: places of its shadow that are drawn dark at the viewpoint, how many swim, how far off it stands when less than half of
    them are drawn any more (null: never on this walk)."""

    name: str
    dark: int
    swims: int
    drops_out_m: float | None

    @classmethod
    def from_core(cls, c: CasterWalk) -> Self:
        return cls.model_validate(vars(c))


class WalkDocument(Document):
    """A walk in one light. unit: of `step` and of each step's `at`; points: fixed places asked, each standing for so many pixels; dark:
    those in shadow at some step; share: swims of dark, against its limit."""

    viewpoint: str
    light: str
    technique: str
    move: str
    step: float
    unit: str
    points: int
    each: int
    dark: int
    swims: int
    joined: int
    dropped: int
    share: float
    limit: float
    steps: list[StepDocument]
    casters: list[CasterWalkDocument]

    @classmethod
    def from_core(cls, w: Walk) -> Self:
        known = {k: v for k, v in vars(w).items() if k not in ("swimming", "pixels")}
        return cls.model_validate({
            **known, "unit": UNITS[w.move], "limit": MOST, "steps": [StepDocument.from_core(s) for s in w.steps],
            "casters": [CasterWalkDocument.from_core(c) for c in w.casters],
        })  # fmt: skip

"""Autopsies: which shadows are due at a pixel, which are drawn, and which test lost them."""

from typing import Self

from eddyfall.core.handover.documents.base import Document, Finite, Triple, WholePair
from eddyfall.core.truth.autopsy import Autopsy, Elsewhere, LightAutopsy, Retried, ShadowTest
from eddyfall.core.truth.seen_through import Passed


class ShadowTestDocument(Document):
    """One test. margin: how far inside its limit the value is; critical: the leaf's value at which it would just pass, a prediction."""

    name: str
    passed: bool
    value: Finite
    limit: Finite
    margin: Finite
    unit: str
    leaf: str
    level: str
    critical: Finite

    @classmethod
    def from_core(cls, t: ShadowTest) -> Self:
        return cls.model_validate(vars(t))


class RetriedDocument(Document):
    """A frame drawn with the lost test's leaf at its critical value."""

    leaf: str
    value: float
    drawn: float
    lost_at: str | None

    @classmethod
    def from_core(cls, r: Retried) -> Self:
        return cls.model_validate(vars(r))


class PassedDocument(Document):
    """A blended thing or glass before a light: metres from the pixel's place, what it keeps of what is seen through it, the shadow that it
    is set to throw."""

    name: str
    away_m: float
    keeps: Triple
    throws: str

    @classmethod
    def from_core(cls, p: Passed) -> Self:
        return cls.model_validate({**vars(p), "keeps": list(p.keeps)})


class LightAutopsyDocument(Document):
    """One light. due: something solid stands before it; drawn: share of its light that the picture has; technique: how its shadow is
    drawn; verdict: agrees, missing, false, edge, terminator, turned away, out of reach, baked, lit through; stops: how much brighter it
    makes the pixel; passed: what is seen through and stands before it, too_bright_stops: how far it is above what that leaves; wrote:
    whose depth stands in the texels that block; written_as: what a false shadow is of."""

    light: str
    technique: str
    due: bool
    as_flagged: bool
    drawn: float
    verdict: str
    stops: Finite
    caster: str | None
    caster_m: Finite
    tests: list[ShadowTestDocument]
    lost_at: str | None
    wrote: list[str]
    written_as: str | None
    behind: list[str]
    clears: str | None
    clears_deg: Finite
    retried: RetriedDocument | None
    passed: list[PassedDocument]
    too_bright_stops: Finite

    @classmethod
    def from_core(cls, v: LightAutopsy) -> Self:
        return cls.model_validate({
            **vars(v), "tests": [ShadowTestDocument.from_core(t) for t in v.tests], "wrote": list(v.wrote), "behind": list(v.behind),
            "retried": RetriedDocument.from_core(v.retried) if v.retried else None,
            "passed": [PassedDocument.from_core(p) for p in v.passed],
        })  # fmt: skip


class ElsewhereLightDocument(Document):
    """One light there: its verdict, share drawn, the test that lost it."""

    light: str
    verdict: str
    drawn: float
    lost_at: str | None


class ElsewhereDocument(Document):
    """The same pixel for another target or in another role (null: none, and the viewpoint's own)."""

    target: str | None
    role: str | None
    lights: list[ElsewhereLightDocument]

    @classmethod
    def from_core(cls, e: Elsewhere) -> Self:
        return cls.model_validate({**vars(e), "lights": [ElsewhereLightDocument.model_validate(vars(v)) for v in e.lights]})


class AutopsyDocument(Document):
    """The shadows of one pixel: what is seen there, where it lies in m, every light that shines, and how they fare elsewhere."""

    viewpoint: str
    at: WholePair
    drawable: str
    place_m: Triple
    lights: list[LightAutopsyDocument]
    elsewhere: list[ElsewhereDocument]

    @classmethod
    def from_core(cls, a: Autopsy) -> Self:
        return cls.model_validate({
            "viewpoint": a.viewpoint, "at": (a.x, a.y), "drawable": a.drawable, "place_m": a.place_m,
            "lights": [LightAutopsyDocument.from_core(v) for v in a.lights],
            "elsewhere": [ElsewhereDocument.from_core(e) for e in a.elsewhere],
        })  # fmt: skip

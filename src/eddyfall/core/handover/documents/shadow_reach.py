"""The long section of a light's shadows, the cures matrix and leftovers, as documents."""

from typing import Any, Self

from eddyfall.core.handover.documents.base import Document, Finite, WholePair
from eddyfall.core.lineup.cures import Cell, CuresMatrix
from eddyfall.core.truth.leftovers import Leftovers
from eddyfall.core.truth.long_section import LongSection
from eddyfall.core.truth.shadow_costs import ShadowCost


class ShadowCostDocument(Document):
    """bytes, texels, maps, draws into them, triangles of those, rays."""

    bytes: int
    texels: int
    maps: int
    draws: int
    triangles: int
    rays: int

    @classmethod
    def from_core(cls, c: ShadowCost) -> Self:
        return cls.model_validate(vars(c))


class TierDocument(Document):
    """One bed: the depths it serves in m (far_m null: endless), its texel in m."""

    name: str
    near_m: float
    far_m: Finite
    texel_m: float
    resolution: int
    bytes: int


class CasterBarDocument(Document):
    """One caster: how far its shadow is drawn (ends_m; null: at any distance), what ends it, how far inside that it is."""

    name: str
    node: str
    mesh: str
    range_m: float
    near_m: float
    far_m: float
    due_px: int
    missing_px: int
    ends_m: Finite
    ended_by: str
    leaf: str
    margin_m: Finite
    lost_at: str | None
    at: WholePair


class ShareDocument(Document):
    """Pixels that one cause takes of one drawable's shadow, or darkens."""

    what: str
    drawable: str
    pixels: int


class LongSectionDocument(Document):
    """A light's shadows from a viewpoint. pixel_m: size of a pixel at 1 m; classes: pixels, which sum to the frame's surfaces."""

    viewpoint: str
    light: str
    lights: list[str]
    technique: str
    reach_by: str
    size: WholePair
    pixel_m: float
    tiers: list[TierDocument]
    casters: list[CasterBarDocument]
    classes: dict[str, int]
    lost: list[ShareDocument]
    wrote: list[ShareDocument]
    pages: int
    coarser: int
    cost: ShadowCostDocument

    @classmethod
    def from_core(cls, s: LongSection) -> Self:
        return cls.model_validate({
            **vars(s), "lights": list(s.lights), "tiers": [TierDocument.model_validate(vars(t)) for t in s.tiers],
            "casters": [CasterBarDocument.model_validate(vars(c)) for c in s.casters],
            "lost": [ShareDocument.model_validate(vars(v)) for v in s.lost],
            "wrote": [ShareDocument.model_validate(vars(v)) for v in s.wrote], "cost": ShadowCostDocument.from_core(s.cost),
        })  # fmt: skip


class CellDocument(Document):
    """One technique with one remedy. verdict: cures, masks, no effect, nothing to cure; critical: a prediction."""

    technique: str
    remedy: str
    verdict: str
    lost_before: int
    lost: int
    drawn_before: float
    drawn: float
    elsewhere: int
    leaf: str
    value: Any
    critical: Finite
    cost: ShadowCostDocument
    change: dict[str, Any]

    @classmethod
    def from_core(cls, c: Cell) -> Self:
        return cls.model_validate({
            **vars(c), "cost": ShadowCostDocument.from_core(c.cost), "change": c.change.model_dump(mode="json", exclude_none=True),
        })  # fmt: skip


class CuresDocument(Document):
    """Every technique against every remedy for one caster's shadow; base: hash of the build that all cells started from."""

    viewpoint: str
    caster: str
    due: int
    base: str
    cells: list[CellDocument]

    @classmethod
    def from_core(cls, m: CuresMatrix) -> Self:
        return cls.model_validate({**vars(m), "cells": [CellDocument.from_core(c) for c in m.cells]})


class LeftoverDocument(Document):
    """One shadow setting that is not at its default; needed: pixels change without it."""

    setting: str
    value: Any
    default: Any
    needed: bool
    where: str
    pixels: int


class LeftoversDocument(Document):
    """All of them, and the change that takes out what nothing needs."""

    settings: list[LeftoverDocument]
    change: dict[str, Any] | None
    looked: list[str]

    @classmethod
    def from_core(cls, found: Leftovers) -> Self:
        settings = [LeftoverDocument.model_validate({**vars(s), "setting": ".".join(s.path)}) for s in found.settings]
        change = found.change.model_dump(mode="json", exclude_none=True) if found.change else None
        return cls.model_validate({"settings": settings, "change": change, "looked": list(found.looked)})

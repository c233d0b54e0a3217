"""Edges of what has alpha at a viewpoint, as documents."""

import math
from typing import Self

from eddyfall.core.compare.ciede2000 import delta_e_of_light
from eddyfall.core.defects.edge_faults import Edges
from eddyfall.core.handover.documents.base import Document
from eddyfall.core.scene.build import Build


class CoverLevelDocument(Document):
    """Fragments of a cutout that are tested nearest to a mip level, how many are drawn, and how many are due."""

    level: int
    pixels: int
    drawn: int
    due: float


class EdgeAtDocument(Document):
    """A pixel: nits as drawn and with the picture put right, CIEDE2000 between."""

    x: int
    y: int
    drawn: list[float]
    due: list[float]
    delta_e: float


class EdgesOfDocument(Document):
    """A material with an alpha picture: its kind and things; what its colours are told to be (null: not to be told, or no picture), what
    they are drawn as, whether they are averaged multiplied by alpha; steps: of its colour between texels of another alpha, by reading, in
    shares of white (null: no such picture could be); pixels that are visibly misread or averaged wrongly, the worst CIEDE2000; a cutout's
    coverage (null: none), by level too."""

    material: str
    kind: str
    things: list[str]
    holds: str | None
    read_as: str | None
    filtered: str | None
    steps: dict[str, float | None]
    misread_px: int
    averaged_px: int
    worst_delta_e: float
    drawn_px: int | None
    due_px: float | None
    levels: list[CoverLevelDocument]
    beyond: bool
    at: EdgeAtDocument | None

    @classmethod
    def from_core(cls, build: Build, e: Edges, at: tuple[int, int] | None) -> Self:
        of, rim = e.picture, e.rim
        n = {name: int(v.sum()) if v is not None else 0 for name, v in (("misread", e.misread), ("averaged", e.averaged))}
        here = None
        if rim is not None and at is not None:
            x, y = at
            now, due = rim.at(x, y)
            off = float(delta_e_of_light(now.reshape(1, 1, 3), due.reshape(1, 1, 3))[0, 0])
            here = EdgeAtDocument(x=x, y=y, drawn=now.tolist(), due=due.tolist(), delta_e=off)
        return cls(
            material=build.scene.material_keys[e.material], kind=e.kind, things=list(e.things),
            holds=None if of is None else of.told.holds, read_as=None if of is None else of.now.holds,
            filtered=None if of is None else of.now.stored,
            steps={} if of is None else {h: v if math.isfinite(v) else None for h, v in of.told.steps.items()},
            misread_px=n["misread"], averaged_px=n["averaged"],
            worst_delta_e=0.0 if rim is None else float(max(rim.misread.max(), rim.averaged.max())),
            drawn_px=None if e.cover is None else e.cover.drawn, due_px=None if e.cover is None else e.cover.due,
            levels=[]
            if e.cover is None
            else [CoverLevelDocument(level=v.level, pixels=v.pixels, drawn=v.drawn, due=v.due) for v in e.cover.levels],
            beyond=bool(n["misread"] or n["averaged"] or e.thin), at=here,
        )  # fmt: skip


class AlphaEdgesDocument(Document):
    """A viewpoint: every material with an alpha picture that is in view."""

    viewpoint: str
    materials: list[EdgesOfDocument]

    @classmethod
    def from_core(cls, build: Build, viewpoint: str, found: list[Edges], at: tuple[int, int] | None = None) -> Self:
        return cls(viewpoint=viewpoint, materials=[EdgesOfDocument.from_core(build, e, at) for e in found])

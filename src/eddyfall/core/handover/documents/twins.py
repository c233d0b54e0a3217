"""What is missing in a build and what could stand there, as documents."""

from typing import Self

import numpy as np
from pydantic import Field

from eddyfall.core.handover.documents.base import Anything, Document, Triple
from eddyfall.core.likeness.outline import Outline, outline_of
from eddyfall.core.likeness.shapes import Shape
from eddyfall.core.likeness.twins import HERE, Missing, Twin, stands_in


class TwinDocument(Document):
    """A candidate: mm between the surfaces (mean, most), whether it is mirrored, mm between its open ends and the neighbours'; null where
    that cannot be said. place: 16 numbers by rows, where it would stand. change: by which it does, of a mesh of this build; brought: it is
    of another file, and is asked for by itself."""

    mesh: str
    source: str
    apart_mm: float | None
    most_mm: float | None
    mirrored: bool | None
    end_fit_mm: float | None
    unlike: float
    place: list[float]
    outline: "OutlineDocument | None" = None
    change: dict[str, Anything] | None = None
    brought: bool = False

    @classmethod
    def from_core(cls, t: Twin) -> Self:
        a, fit = t.aligned, t.end_fit_m
        return cls(
            mesh=t.mesh, source=t.source, apart_mm=None if a is None else a.apart_m * 1000, most_mm=None if a is None else a.most_m * 1000,
            mirrored=None if a is None else a.mirrored, end_fit_mm=None if fit is None else fit * 1000, unlike=t.unlike,
            place=[float(v) for v in np.ravel(t.place)],
        )  # fmt: skip


class OutlineDocument(Document):
    """An outline in mm: lines as x0, y0, x1, y1 with y up from its lower left corner; size (width, height, depth) mm."""

    lines: list[list[float]]
    size: Triple

    @classmethod
    def from_core(cls, o: Outline) -> Self:
        corner = o.lines.reshape(-1, 2).min(axis=0) if len(o.lines) else np.zeros(2)
        lines = np.round((o.lines - corner) * 1000, 3).reshape(-1, 4)
        return cls(lines=lines.tolist(), size=[v * 1000 for v in o.box])


class MissingDocument(Document):
    """Something that is missing: how that is known, whether it is a guess, what its shape is taken from and its outline (null: not known);
    the candidates, best first."""

    name: str
    how: str
    guess: bool
    like: str
    at_m: Triple
    outline: OutlineDocument | None
    twins: list[TwinDocument]

    @classmethod
    def from_core(cls, what: Missing, found: list[Twin]) -> Self:
        """With the outlines of all at one scale, as it is to stand, and the change by which one of this build stands there."""
        due = None if what.shape is None else outline_of(_turned(what.shape, what.place))
        twins = []
        for t in found:
            outline = None if t.shape is None else outline_of(_turned(t.shape, t.place), None if due is None else due.axes)
            told = None if outline is None else OutlineDocument.from_core(outline)
            change = stands_in(what, t)
            plain = None if change is None else change.model_dump(mode="json", exclude_none=True)
            twins.append(
                TwinDocument.from_core(t).model_copy(update={"outline": told, "change": plain, "brought": t.source != HERE})
            )
        return cls(name=what.name, how=what.how, guess=what.guess, like=what.like, at_m=what.place[:3, 3].tolist(),
                   outline=None if due is None else OutlineDocument.from_core(due), twins=twins)  # fmt: skip


def _turned(shape: Shape, place: np.ndarray) -> Shape:
    return Shape(shape.corners @ place[:3, :3].T + place[:3, 3])


class ShapeDocument(Document):
    """What a mesh is compared by: the sides of its box in m, shortest first, its area in m2, and m between two points of its surface drawn
    at random: their mean, and the quarter, half and three quarters of pairs that are nearer than so much."""

    mesh: str
    source: str
    triangles: int
    sides_m: Triple
    area_m2: float
    pairs_mean_m: float
    pairs_quartiles_m: Triple

    @classmethod
    def from_core(cls, source: str, mesh: str, s: Shape) -> Self:
        return cls(mesh=mesh, source=source, triangles=len(s.corners), sides_m=s.sides.tolist(), area_m2=s.area,
                   pairs_mean_m=float(s.pairs_m.mean()), pairs_quartiles_m=np.quantile(s.pairs_m, (0.25, 0.5, 0.75)).tolist())  # fmt: skip


class TwinsDocument(Document):
    """All that is missing, and the shapes that could stand there."""

    missing: list[MissingDocument]
    shapes: list[ShapeDocument] = Field(default_factory=list)

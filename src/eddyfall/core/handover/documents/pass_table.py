"""The pass table of a build as a document: materials down, consumers across."""

from typing import Self

from eddyfall.core.defects.pass_table import CONSUMERS, Cell, Row
from eddyfall.core.handover.documents.base import Document


class TakesPartCellDocument(Document):
    """One material and one consumer, as `Cell` has it."""

    consumer: str
    status: str
    because: str
    measured: bool | None
    disagrees: bool

    @classmethod
    def from_core(cls, c: Cell) -> Self:
        return cls(consumer=c.consumer, status=c.status, because=c.because, measured=c.measured, disagrees=c.disagrees)


class TakesPartDocument(Document):
    """A material: its things in the frustum, whether hiding them changes the picture, cells in the order of the consumers."""

    material: str
    things: list[str]
    seen: bool
    cells: list[TakesPartCellDocument]

    @classmethod
    def from_core(cls, r: Row) -> Self:
        return cls(
            material=r.material, things=list(r.things), seen=r.seen, cells=[TakesPartCellDocument.from_core(c) for c in r.cells]
        )


class BuildPassTableDocument(Document):
    """A viewpoint: consumers, rows; disagreements: cells in which what is measured is not what is declared."""

    viewpoint: str
    consumers: list[str]
    rows: list[TakesPartDocument]
    disagreements: int

    @classmethod
    def from_core(cls, viewpoint: str, rows: list[Row]) -> Self:
        return cls(
            viewpoint=viewpoint, consumers=list(CONSUMERS), rows=[TakesPartDocument.from_core(r) for r in rows],
            disagreements=sum(c.disagrees for r in rows for c in r.cells),
        )  # fmt: skip

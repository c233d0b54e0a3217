"""Which supplied picture is which that is missing, as a document."""

from typing import Self

from eddyfall.core.handover.documents.base import Document
from eddyfall.core.intake.supply import Found, Lost, Supply


class MissingPictureDocument(Document):
    """A picture that is missing: its number, name and file name; what it is for, as material and role."""

    image: int
    name: str
    file: str
    uses: list[list[str]]

    @classmethod
    def from_core(cls, lost: Lost) -> Self:
        return cls(image=lost.image, name=lost.name, file=lost.file, uses=[list(use) for use in lost.uses])


class SuppliedDocument(MissingPictureDocument):
    """A picture that found its place: which it is, by what; apart: codes on the mean from what was there before (null: not known); sure:
    whether the file says so by itself."""

    picture: str
    how: str
    apart: float | None
    sure: bool

    @classmethod
    def of_found(cls, f: Found) -> Self:
        lost = MissingPictureDocument.from_core(f.lost)
        return cls(**lost.model_dump(), picture=f.offered, how=f.how, apart=f.apart, sure=f.sure)


class SupplyDocument(Document):
    """What was found, what is still missing, supplied pictures that found no place."""

    found: list[SuppliedDocument]
    missing: list[MissingPictureDocument]
    left: list[str]

    @classmethod
    def from_core(cls, s: Supply) -> Self:
        return cls(
            found=[SuppliedDocument.of_found(f) for f in s.found], missing=[MissingPictureDocument.from_core(m) for m in s.missing],
            left=list(s.left),
        )  # fmt: skip

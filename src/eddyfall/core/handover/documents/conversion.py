"""Conversions of materials to another base shader, rehearsed, as documents."""

from typing import Self

from eddyfall.core.handover.documents.base import Anything, Document
from eddyfall.core.handover.documents.light_response import TransferDocument
from eddyfall.core.materials.convert import Conversion, change_of
from eddyfall.core.materials.roles import Moved, value_of
from eddyfall.core.scene.setup.tables import VALUE_ROLES
from eddyfall.core.truth.response.conversions import Converted, SeenConverted


class MovedDocument(Document):
    """A value of a base shader: its name, what is said, in which unit; its role and how that comes of it; what it comes to; its name in the
    other base shader (null: the material's own factor); moved, computed or no place."""

    name: str
    said: Anything
    unit: str
    role: str | None
    how: str
    comes_to: Anything
    to: str | None
    fate: str

    @classmethod
    def from_core(cls, m: Moved) -> Self:
        return cls(name=m.name, said=m.said, unit=m.unit, role=m.role, how=m.how, comes_to=m.comes_to, to=m.to, fate=m.fate)


class ConversionDocument(Document):
    """A material: its base shader now and then; converts or special, and why; what becomes of its values and pictures, how pictures were
    computed; its factors then, by role (null where it cannot be converted); the change for it alone."""

    material: str
    before: str
    after: str
    kind: str
    why: list[str]
    values: list[MovedDocument]
    pictures: list[TransferDocument]
    how: str
    factors: dict[str, Anything] | None
    change: dict[str, Anything] | None

    @classmethod
    def from_core(cls, c: Conversion, to: str | None) -> Self:
        made = c.becomes
        return cls(
            material=c.material, before=c.before, after=c.after, kind=c.kind, why=list(c.why),
            values=[MovedDocument.from_core(m) for m in c.values],
            pictures=[TransferDocument.from_core(t) for t in c.pictures if t.bound is not None or t.default is not None], how=c.how,
            factors=None if made is None else {role: value_of(made.material, role) for role in VALUE_ROLES},
            change=None if made is None else change_of([c], to).model_dump(mode="json", exclude_none=True),
        )  # fmt: skip


class SeenConvertedDocument(Document):
    """At a viewpoint: pixels in the error colour before and after; pixels of what was converted and CIEDE2000 there against how its own
    base shader draws it, mean and 99th percentile."""

    viewpoint: str
    error_before: int
    error_after: int
    pixels: int
    mean_de: float
    most_de: float

    @classmethod
    def from_core(cls, s: SeenConverted) -> Self:
        return cls(**vars(s))


class ConversionsDocument(Document):
    """What a conversion of many comes to on a target: each material, special ones left as they are; what each viewpoint shows; the change
    (null: nothing converts)."""

    target: str | None
    to: str | None
    rows: list[ConversionDocument]
    special: list[str]
    seen: list[SeenConvertedDocument]
    change: dict[str, Anything] | None

    @classmethod
    def from_core(cls, c: Converted, to: str | None) -> Self:
        return cls(
            target=c.target, to=to, rows=[ConversionDocument.from_core(row, to) for row in c.rows],
            special=[row.material for row in c.special], seen=[SeenConvertedDocument.from_core(s) for s in c.seen],
            change=None if c.change is None else c.change.model_dump(mode="json", exclude_none=True),
        )  # fmt: skip

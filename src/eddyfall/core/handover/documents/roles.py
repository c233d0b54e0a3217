"""Two roles side by side, as a document."""

from typing import Self

from eddyfall.core.handover.documents.base import Anything, Document
from eddyfall.core.truth.roles import Differing, Effect, SideBySide


class RoleEffectDocument(Document):
    """Stops of mean luminance as exposed, against the second role's; share of pixels that differ visibly."""

    stops: float
    share: float

    @classmethod
    def from_core(cls, e: Effect) -> Self:
        return cls(stops=e.stops, share=e.share)


class DifferingDocument(Document):
    """A leaf in which the roles differ: value and winner in each; what it does alone, what the others do without it; "", "nothing here" or
    "only with others"."""

    leaf: str
    first: Anything
    first_winner: str
    second: Anything
    second_winner: str
    alone: RoleEffectDocument
    rest: RoleEffectDocument
    says: str

    @classmethod
    def from_core(cls, d: Differing) -> Self:
        return cls(
            leaf=d.leaf, first=d.first, first_winner=d.first_winner, second=d.second, second_winner=d.second_winner,
            alone=RoleEffectDocument.from_core(d.alone), rest=RoleEffectDocument.from_core(d.rest), says=d.says,
        )  # fmt: skip


class SideBySideDocument(Document):
    """Two roles at a viewpoint: the first against the second, all of it and leaf by leaf, largest first; names of all roles there are."""

    viewpoint: str
    first: str
    second: str
    whole: RoleEffectDocument
    leaves: list[DifferingDocument]
    roles: list[str]

    @classmethod
    def from_core(cls, s: SideBySide) -> Self:
        leaves = [DifferingDocument.from_core(d) for d in s.leaves]
        return cls(
            viewpoint=s.viewpoint, first=s.first, second=s.second, whole=RoleEffectDocument.from_core(s.whole), leaves=leaves,
            roles=list(s.roles),
        )  # fmt: skip

"""Proofs of a repair."""

from typing import Self

from pydantic import Field

from eddyfall.core.handover.documents.base import Document
from eddyfall.core.sweep.proof import Proof, ViewProof
from eddyfall.core.sweep.proof_moves import MoveProof


class ViewProofDocument(Document):
    """One viewpoint: shares 0..1 of its pixels that change, on drawables that share the cause and elsewhere; pixels by sibling;
    shadow_edges: what moves within the filter of true shadow edges or nearer to what rays say, which does not count as elsewhere;
    light_truer: the same of light from around that comes nearer to what is due."""

    viewpoint: str
    role: str
    changed: float
    on_cause: float
    elsewhere: float
    siblings: dict[str, int]
    shadow_edges: float = 0.0  # proofs of before it was measured have none
    light_truer: float = 0.0

    @classmethod
    def from_core(cls, view: ViewProof) -> Self:
        return cls.model_validate(vars(view))


class MoveProofDocument(Document):
    """A surface along a move: stops of drift before and after, stops by which some moment is further off than it was [predictions]."""

    move: str
    surface: str
    before: float
    after: float
    further: float

    @classmethod
    def from_core(cls, m: MoveProof) -> Self:
        return cls.model_validate(vars(m))


class ProofDocument(Document):
    """Titles of findings that the repair ends, leaves and makes; every viewpoint before and after; drift along moves."""

    proved: bool
    why: str
    ended: list[str]
    left: list[str]
    made: list[str]
    views: list[ViewProofDocument]
    moves: list[MoveProofDocument] = Field(default_factory=list)  # proofs of before there were any have none

    @classmethod
    def from_core(cls, proof: Proof) -> Self:
        return cls(
            proved=proof.proved, why=proof.why, ended=list(proof.ended), left=list(proof.left), made=list(proof.made),
            views=[ViewProofDocument.from_core(v) for v in proof.views],
            moves=[MoveProofDocument.from_core(m) for m in proof.moves],
        )  # fmt: skip

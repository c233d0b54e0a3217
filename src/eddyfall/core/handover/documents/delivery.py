"""A delivery rehearsed, as a document: what each part is now, what becomes of every edit, how the frames differ, what is stale."""

from collections import Counter
from typing import Literal, Self

from eddyfall.core.delivery.carry import Edit
from eddyfall.core.delivery.matching import Match
from eddyfall.core.delivery.rehearse import Rehearsal
from eddyfall.core.handover.documents.base import Anything, Document


class MatchDocument(Document):
    """What became of parts of the old delivery, or what is new; share: of their area that lies where it lay."""

    kind: Literal["node", "mesh", "material", "image"]
    old: list[str]
    new: list[str]
    state: Literal["same", "changed", "renamed", "moved", "split", "merged", "gone", "new"]
    why: str
    share: float | None

    @classmethod
    def from_core(cls, m: Match) -> Self:
        return cls(kind=m.kind, old=list(m.old), new=list(m.new), state=m.state, why=m.why, share=m.share)


class EditDocument(Document):
    """A leaf or an operation of a kept change: delivered before, yours, delivered now, and its fate. key: by which an answer names it."""

    key: str
    change: str
    title: str
    path: str
    to: list[str]
    before: Anything
    yours: Anything
    delivered: Anything
    fate: Literal["kept", "moved", "adapted", "delivered", "asked", "lost"]
    why: str
    answer: Literal["before", "yours", "delivered"] | None

    @classmethod
    def from_core(cls, e: Edit) -> Self:
        return cls(
            key=e.key, change=e.change, title=e.title, path=e.path, to=list(e.to), before=e.before, yours=e.yours,
            delivered=e.delivered, fate=e.fate, why=e.why, answer=e.answer,
        )  # fmt: skip


class ViewDifferenceDocument(Document):
    """A viewpoint before and after: mean and 99th percentile CIEDE2000, share of pixels that differ visibly; null where it is new."""

    viewpoint: str
    mean_de: float | None
    most_de: float | None
    differs: float | None


class StaleDocument(Document):
    """A bake or capture that does not fit what is delivered, and why."""

    what: str
    why: str


class RehearsalDocument(Document):
    """What a delivery comes to. counts: edits by fate; unanswered: keys of edits that are still asked; stamp: of what is accepted."""

    matches: list[MatchDocument]
    same: dict[str, int]
    edits: list[EditDocument]
    counts: dict[str, int]
    unanswered: list[str]
    views: list[ViewDifferenceDocument]
    stale: list[StaleDocument]
    notes: list[str]
    stamp: str

    @classmethod
    def from_core(cls, r: Rehearsal) -> Self:
        """Parts that are the same are counted, not listed."""
        matches = r.carried.matching.matches
        return cls(
            matches=[MatchDocument.from_core(m) for m in matches if m.state != "same"],
            same=dict(Counter(m.kind for m in matches if m.state == "same")),
            edits=[EditDocument.from_core(e) for e in r.carried.edits],
            counts=dict(Counter(e.fate for e in r.carried.edits)),
            unanswered=[e.key for e in r.carried.asked],
            views=[ViewDifferenceDocument(**v.__dict__) for v in r.views],
            stale=[StaleDocument(what=what, why=why) for what, why in r.stale],
            notes=[*r.carried.notes, *r.carried.base.notes],
            stamp=r.stamp,
        )  # fmt: skip

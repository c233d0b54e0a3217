"""Where the light is that surfaces get from others, as a document."""

from typing import Self

from eddyfall.core.handover.documents.base import Document, Finite
from eddyfall.core.truth.reference.answers import OUTCOMES
from eddyfall.core.truth.reference.classes import CLASSES
from eddyfall.core.truth.reference.where import Answer, Where


class ClassDocument(Document):
    """One class of rays: share of them, luminance in nits of bounced and of mirrored light."""

    where: str
    share: float
    bounce: float
    reflection: float


class SourceDocument(Document):
    """What light comes from, and where that is."""

    drawable: str
    where: str
    nits: float


class HidingDocument(Document):
    """What stands before light, and how much of it."""

    drawable: str
    nits: float


class MarginDocument(Document):
    """A margin of so many pixels around the frame: share of pixels more, and what is then on it."""

    px: int
    pixels_more: float
    nits: float


class AnsweredDocument(Document):
    """What a pass makes of the light of one class: nits it finds, takes something else for, finds nothing of, gives over to its fallback,
    is not asked for."""

    where: str
    found: float
    wrong_hit: float
    missed: float
    fell_back: float
    not_asked: float


class AnswerDocument(Document):
    """A pass that has the frame alone, as it is set: its fallback, and what it makes of the light it is asked for."""

    name: str
    fallback: str
    classes: list[AnsweredDocument]

    @classmethod
    def from_core(cls, a: Answer) -> Self:
        rows = [
            AnsweredDocument(where=where, **{name.replace(" ", "_"): float(v) for name, v in zip(OUTCOMES, nits)})
            for where, nits in zip(CLASSES, a.light)
            if nits.sum() > 0
        ]
        return cls(name=a.name, fallback=a.fallback, classes=rows)


class CeilingDocument(Document):
    """The most a kind of remedy can bring, a prediction: nits, and stops of all light against what is due (null: none is left)."""

    remedy: str
    nits: float
    stops: Finite
    why: str


class WhereDocument(Document):
    """Of places of a frame or a region, or of one place of the world: luminance due in nits, of it from other surfaces and the
    sky, of that already in lightmaps; ceilings are of the rest."""

    viewpoint: str
    places: int
    samples: int
    due: float
    from_others: float
    classes: list[ClassDocument]
    sources: list[SourceDocument]
    hidden_by: list[HidingDocument]
    margin: list[MarginDocument]
    answers: list[AnswerDocument]
    in_lightmaps: float
    ceilings: list[CeilingDocument]

    @classmethod
    def from_core(cls, viewpoint: str, w: Where) -> Self:
        return cls(
            viewpoint=viewpoint, places=w.places, samples=w.samples, due=w.due, from_others=w.from_others,
            classes=[ClassDocument(where=r.where, share=r.share, bounce=r.bounce, reflection=r.reflection) for r in w.rows],
            sources=[SourceDocument(drawable=d, where=where, nits=nits) for d, where, nits in w.sources],
            hidden_by=[HidingDocument(drawable=d, nits=nits) for d, nits in w.hidden_by],
            margin=[MarginDocument(px=px, pixels_more=more, nits=nits) for px, more, nits in w.margin],
            in_lightmaps=w.in_lightmaps,
            answers=[AnswerDocument.from_core(a) for a in w.answers],
            ceilings=[CeilingDocument(remedy=c.remedy, nits=c.nits, stops=c.stops, why=c.why) for c in w.ceilings],
        )  # fmt: skip

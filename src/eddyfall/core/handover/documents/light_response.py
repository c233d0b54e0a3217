"""How materials answer light, and swaps of base shaders, as documents."""

from typing import Self

from eddyfall.core.handover.documents.base import Document
from eddyfall.core.materials.transfers import Transfer
from eddyfall.core.scene.maps import DrawnMap
from eddyfall.core.truth.response.alone import Alone
from eddyfall.core.truth.response.in_place import InPlace
from eddyfall.core.truth.response.rehearsal import Rehearsal, Seen
from eddyfall.core.truth.response.rivals import Tried
from eddyfall.core.truth.response.survey import Answer


class MapDocument(Document):
    """What a material draws for a role: the picture that is bound, whether it is on and its base shader has the place; what shows."""

    role: str
    bound: str | None
    on: bool
    has_slot: bool
    shows: str

    @classmethod
    def from_core(cls, m: DrawnMap) -> Self:
        return cls(role=m.role, bound=m.bound, on=m.on, has_slot=m.has_slot, shows=m.shows)


class RivalDocument(Document):
    """What was put right, and the share of what is due that the surface then answers with."""

    what: str
    title: str
    answer: float


class CauseDocument(Document):
    """What suffices, one or two put right together."""

    what: list[str]
    titles: list[str]
    answer: float


class InPlaceDocument(Document):
    """A drawable at a viewpoint: nits of light from around drawn and due, their ratio; rivals tried and causes, if it does not answer."""

    drawable: str
    viewpoint: str
    places: int
    drawn: float
    due: float
    answer: float
    tried: list[RivalDocument]
    causes: list[CauseDocument]

    @classmethod
    def from_core(cls, p: InPlace, told: Tried | None) -> Self:
        return cls(
            drawable=p.name, viewpoint=p.viewpoint, places=p.places, drawn=p.drawn, due=p.due, answer=p.answer,
            tried=[RivalDocument(what=r.what, title=r.change.title, answer=a) for r, a in told.single] if told else [],
            causes=[
                CauseDocument(what=[r.what for r in c.rivals], titles=[r.change.title for r in c.rivals], answer=c.answer)
                for c in (told.causes if told else ())
            ],
        )  # fmt: skip


class MaterialAnswerDocument(Document):
    """A material: alone on a card its own furnace value, what of it is drawn in even light (their ratio is `answer`: below .1 broken, below
    .5 weak), nits for each lux of a sun square to it; its pictures; where it is seen, the worst first, and
    what is usual around that one."""

    material: str
    shader: str
    furnace: float
    ambient: float
    answer: float
    sun: float
    usual: float
    verdict: str
    maps: list[MapDocument]
    in_place: list[InPlaceDocument]

    @classmethod
    def from_core(cls, a: Answer) -> Self:
        return cls(
            **_alone(a.alone), usual=a.usual, verdict=a.verdict, maps=[MapDocument.from_core(m) for m in a.alone.maps.values()],
            in_place=[InPlaceDocument.from_core(p, told) for p, told in a.places],
        )  # fmt: skip


def _alone(a: Alone) -> dict[str, object]:
    return {
        "material": a.material,
        "shader": a.shader,
        "furnace": a.furnace,
        "ambient": a.ambient,
        "answer": a.answer,
        "sun": a.sun,
    }


class TransferDocument(Document):
    """What becomes of a role: the picture that is bound, its fate, the picture that shows instead."""

    role: str
    bound: str | None
    fate: str
    default: str | None

    @classmethod
    def from_core(cls, t: Transfer) -> Self:
        return cls(role=t.role, bound=t.bound, fate=t.fate, default=t.default)


class SwapSeenDocument(Document):
    """At a viewpoint: pixels of the material, of them with a default picture; share of what is due that it answers with before, after."""

    viewpoint: str
    pixels: int
    default_px: int
    before: float
    after: float

    @classmethod
    def from_core(cls, s: Seen) -> Self:
        return cls(viewpoint=s.viewpoint, pixels=s.pixels, default_px=s.default_px, before=s.before, after=s.after)


class SwapDocument(Document):
    """A swap of base shaders, rehearsed: what becomes of each role, how the material answers by itself, mean CIEDE2000 in the sun, at each
    viewpoint that shows it; the change."""

    material: str
    before: str
    after: str
    transfers: list[TransferDocument]
    kept: int
    answer_before: float
    answer_after: float
    sun_delta_e: float
    default_px: int
    seen: list[SwapSeenDocument]
    change: dict[str, object]

    @classmethod
    def from_core(cls, r: Rehearsal) -> Self:
        moved = r.swap.transfers
        return cls(
            material=r.swap.material, before=r.swap.before, after=r.swap.after, transfers=[TransferDocument.from_core(t) for t in moved],
            kept=sum(t.fate in ("kept", "switched on") for t in moved), answer_before=r.before.answer, answer_after=r.after.answer,
            sun_delta_e=r.sun_delta_e, default_px=sum(s.default_px for s in r.seen), seen=[SwapSeenDocument.from_core(s) for s in r.seen],
            change=r.swap.change.model_dump(mode="json", exclude_none=True),
        )  # fmt: skip

"""A move looked along, as a document."""

from typing import Self

from eddyfall.core.handover.documents.base import Document, Finite, Numbers, Pair, Triple, Whole
from eddyfall.core.truth.moving.along import Along
from eddyfall.core.truth.reference.classes import CLASSES


class MovesDocument(Document):
    """Names of the moves that can be looked along: of the setup, and from a viewpoint."""

    own: list[str]
    stock: list[str]


class MomentDocument(Document):
    """One pose: eye and direction; anchors in sight; mean nits due, forecast and measured (null: not in sight, not drawn); stops away from
    each anchor's best moment, forecast and measured; nits from other surfaces and the sky by where that is, of them found; where the ends
    of the drawn rays are, by index into `classes`."""

    t_s: float
    eye: Triple
    forward: Triple
    in_sight: int
    due: Finite
    predicted: Finite
    measured: Finite
    away: Finite
    measured_away: Finite
    light: Numbers
    found: Finite
    rays: Whole


class HelpDocument(Document):
    """What a remedy would leave if it brought the most it can, a prediction: drift in stops, and whether that is within the limit."""

    remedy: str
    drift: float
    enough: bool


class AlongDocument(Document):
    """A move over so many anchors: whether it holds within the limit; drift in stops, forecast over all poses and measured over those that
    were drawn; spans beyond the limit in s; what took the light at the worst pose; what helps; place of the anchor whose rays are
    drawn, and their ends."""

    move: str
    viewpoint: str
    anchors: int
    limit_stops: float
    holds: bool
    drift: float
    measured_drift: Finite
    worst_s: float
    exceeds: list[Pair]
    cause: str
    helps: list[HelpDocument]
    classes: list[str]
    moments: list[MomentDocument]
    spot: Triple
    ends: list[Triple]

    @classmethod
    def from_core(cls, a: Along) -> Self:
        moments = [
            MomentDocument(
                t_s=float(a.t_s[k]), eye=a.eyes[k], forward=a.forward[k], in_sight=int(a.seen[k]), due=a.due[k],
                predicted=a.predicted[k], measured=a.measured[k], away=a.away[k],
                measured_away=a.measured_away[k], light=a.light[k] if a.seen[k] else [],
                found=a.found[k], rays=a.rays.classes[k],
            )
            for k in range(len(a.t_s))
        ]  # fmt: skip
        return cls(
            move=a.asked.path.name, viewpoint=a.asked.path.viewpoint, anchors=a.anchors, limit_stops=a.asked.limit_stops, holds=a.holds,
            drift=a.drift, measured_drift=a.measured_drift, worst_s=float(a.t_s[a.worst]), exceeds=list(a.exceeds), cause=a.cause,
            helps=[HelpDocument(remedy=h.remedy, drift=h.drift, enough=h.enough) for h in a.helps], classes=list(CLASSES), moments=moments,
            spot=a.spot, ends=list(a.rays.ends),
        )  # fmt: skip

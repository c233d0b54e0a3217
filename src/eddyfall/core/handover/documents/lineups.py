"""Line-ups: single changes tried on a spot, by rank."""

from typing import Any, Self

from pydantic import Field

from eddyfall.core.handover.documents.base import Document, Facts
from eddyfall.core.handover.documents.changes import optional_change
from eddyfall.core.lineup.run import LineUp, Trial, Verdict


class TrialDocument(Document):
    """One change, rendered: scores at the spot before and after; shares of the preview frame that change off the cause, and on it; what
    it newly breaks elsewhere."""

    title: str
    verdict: Verdict
    before: float
    after: float
    collateral_share: float
    also_changed_share: float
    pass_name: str = Field(alias="pass")
    scope: str | None
    predicts: str
    because: str
    surprise: bool
    new_findings: list[str] = Field(default_factory=list)
    change: dict[str, Any] | None

    @classmethod
    def from_core(cls, t: Trial) -> Self:
        return cls(
            title=t.title, verdict=t.verdict, before=t.before, after=t.after, collateral_share=t.collateral,
            also_changed_share=t.also_changed, pass_name=t.pass_name, scope=t.change.scope if t.change else None,
            predicts=t.predicts, because=t.because, surprise=bool(t.surprise),
            new_findings=list(t.new_findings), change=optional_change(t.change),
        )  # fmt: skip


class LineUpSummary(Document):
    """How a spot (x, y, w, h px) was read, and what was not tried."""

    viewpoint: str
    symptom: str
    unit: str
    spot: list[int]
    subject: str
    base_score: float
    not_tried: list[str]
    passes_that_wrote: list[str]
    facts: Facts
    collateral_is_preview: bool = True

    @classmethod
    def from_core(cls, result: LineUp) -> Self:
        return cls(
            viewpoint=result.viewpoint, symptom=result.symptom, unit=result.unit, spot=list(result.spot), subject=result.subject,
            base_score=result.base_score, not_tried=list(result.not_tried), passes_that_wrote=list(result.wrote),
            facts=result.facts,
        )  # fmt: skip


class LineUpDocument(LineUpSummary):
    """A whole line-up, trials by rank."""

    trials: list[TrialDocument]

    @classmethod
    def from_core(cls, result: LineUp) -> Self:
        summary = LineUpSummary.from_core(result).model_dump()
        return cls(trials=[TrialDocument.from_core(t) for t in result.trials], **summary)

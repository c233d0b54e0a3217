"""Findings of a sweep: what is wrong, how it was measured, what it spoils, what cures it."""

from typing import Any, Self

from eddyfall.core.defects.contract import Evidence
from eddyfall.core.defects.registry import code_of
from eddyfall.core.handover.documents.base import Anything, Document, Facts, Finite
from eddyfall.core.handover.documents.changes import change_json
from eddyfall.core.sweep.findings import Finding, Impact, Remedy, RoleView, Severity, SweepResult, Underway, Verdict


class EvidenceDocument(Document):
    """One measured number and what it is held against. predicted: computed, not seen in a frame; at_least: a bound; beyond: its limit
    is passed."""

    measure: str
    value: Finite
    unit: str
    limit: Finite
    source: str
    predicted: bool
    at_least: bool
    beyond: bool

    @classmethod
    def from_core(cls, e: Evidence) -> Self:
        return cls(
            measure=e.measure, value=e.value, unit=e.unit, limit=e.limit, source=e.source, predicted=e.predicted,
            at_least=e.at_least, beyond=e.beyond,
        )  # fmt: skip


class CostDocument(Document):
    name: str
    value: Finite
    unit: str


class RemedyDocument(Document):
    """A change that was applied and looked at. collateral_share: of pixels elsewhere that change; together: how many like remedies were
    proved at once."""

    title: str
    verdict: Verdict
    scope: str
    predicts: str
    costs: list[CostDocument]
    side_effects: list[str]
    warnings: list[str]
    collateral_share: Finite
    new_findings: list[str]
    together: int
    change: dict[str, Any]

    @classmethod
    def from_core(cls, r: Remedy) -> Self:
        return cls(
            title=r.change.title, verdict=r.verdict, scope=r.change.scope, predicts=r.predicts,
            costs=[CostDocument(name=c.name, value=c.value, unit=c.unit) for c in r.costs], side_effects=list(r.side_effects),
            warnings=list(r.warnings), collateral_share=r.collateral, new_findings=list(r.new_findings), together=r.together,
            change=change_json(r.change),
        )  # fmt: skip


class ImpactDocument(Document):
    """Shares 0..1 of frames. why: why it could not be measured."""

    kind: str
    share: float
    mean_share: float
    viewpoint: str | None
    why: str
    by_viewpoint: dict[str, float]

    @classmethod
    def from_core(cls, impact: Impact) -> Self:
        return cls(
            kind=impact.kind, share=impact.share, mean_share=impact.mean, viewpoint=impact.viewpoint, why=impact.why,
            by_viewpoint=impact.by_view,
        )  # fmt: skip


class RoleDocument(Document):
    """Whether a role of camera sees the finding; leaf: the setting that makes the difference."""

    role: str
    seen: bool
    leaf: str | None
    play_value: Anything
    role_value: Anything

    @classmethod
    def from_core(cls, r: RoleView) -> Self:
        return cls(role=r.role, seen=r.seen, leaf=r.leaf, play_value=r.play_value, role_value=r.role_value)


class FindingDocument(Document):
    """One cause. what, kind, symptom and sheet are those of its code; pixels and regions (x, y, w, h px) by viewpoint."""

    code: str
    title: str
    what: str
    kind: str
    symptom: str
    sheet: str
    severity: Severity
    impact: ImpactDocument
    cause: str
    cause_kind: str
    subjects: list[str]
    pixels: dict[str, int]
    regions: dict[str, list[int]]
    evidence: list[EvidenceDocument]
    remedies: list[RemedyDocument]
    seen_in: list[RoleDocument]
    facts: Facts
    fingerprint: str

    @classmethod
    def from_core(cls, f: Finding) -> Self:
        s, known = f.suspicion, code_of(f.code)
        return cls(
            code=s.code, title=s.title, what=known.words, kind=known.kind, symptom=known.symptom, sheet=known.sheet,
            severity=f.severity, impact=ImpactDocument.from_core(f.impact), cause=s.cause, cause_kind=s.cause_kind,
            subjects=list(s.subjects), pixels=s.pixels, regions={v: list(r) for v, r in s.regions.items()},
            evidence=[EvidenceDocument.from_core(e) for e in s.evidence], remedies=[RemedyDocument.from_core(r) for r in f.remedies],
            seen_in=[RoleDocument.from_core(r) for r in f.roles], facts=s.facts, fingerprint=f.fingerprint,
        )  # fmt: skip


class UnderwayDocument(Document):
    """A cause while its sweep still runs. proved: its remedies were tried, so that severity, impact and the best remedy are known."""

    fingerprint: str
    code: str
    title: str
    what: str
    proved: bool
    severity: Severity | None
    impact: ImpactDocument | None
    remedy: str | None

    @classmethod
    def from_core(cls, underway: Underway) -> Self:
        s, f = underway.suspicion, underway.finding
        return cls(
            fingerprint=s.fingerprint, code=s.code, title=s.title, what=code_of(s.code).words, proved=f is not None,
            severity=f.severity if f else None, impact=ImpactDocument.from_core(f.impact) if f else None,
            remedy=f.best.change.title if f and f.best else None,
        )  # fmt: skip


class SweepSummary(Document):
    """What was looked at, without the findings."""

    left_out: list[str]
    viewpoints: list[str]
    size: list[int]
    target: str | None

    @classmethod
    def from_core(cls, result: SweepResult) -> Self:
        return cls(
            left_out=list(result.left_out), viewpoints=list(result.viewpoints), size=list(result.size), target=result.target
        )


class SweepDocument(Document):
    """A whole sweep."""

    findings: list[FindingDocument]
    left_out: list[str]
    viewpoints: list[str]
    size: list[int]
    target: str | None

    @classmethod
    def from_core(cls, result: SweepResult) -> Self:
        findings = [FindingDocument.from_core(f) for f in result.findings]
        return cls(findings=findings, **SweepSummary.from_core(result).model_dump())

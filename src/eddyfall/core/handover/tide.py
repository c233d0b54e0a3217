"""The tide table: viewpoints down, kinds of defect across. One mark, one meaning: the measured share of the frame; a thin outline
where only exposure is known; nothing where there is no impact."""

from collections.abc import Callable, Iterable

from eddyfall.core.defects.contract import KINDS
from eddyfall.core.defects.registry import all_codes
from eddyfall.core.handover.documents.base import Document
from eddyfall.core.handover.documents.findings import FindingDocument
from eddyfall.core.sweep.findings import SEVERITY_ORDER, Severity


class TideColumn(Document):
    """A kind of defect, with the codes and words that fall under it."""

    code: str
    words: str


class TideCell(Document):
    """share: measured shares added up, to at most the whole frame; exposed: nothing is measured here, but subjects are shown; findings by
    fingerprint."""

    share: float
    exposed: bool
    severity: Severity
    findings: list[str]


class TideRow(Document):
    """Cells of a viewpoint, by column."""

    viewpoint: str
    cells: dict[str, TideCell]


def kind_of(finding: FindingDocument) -> str:
    """The column of the tide table that a finding belongs to."""
    return finding.kind


def tide_columns() -> list[TideColumn]:
    """The table's columns in order."""
    words = {kind: "; ".join(f"{c.code}: {c.words}" for c in all_codes().values() if c.kind == kind) for kind in KINDS}
    return [TideColumn(code=kind, words=words[kind]) for kind in KINDS]


def tide_row(findings: Iterable[FindingDocument], viewpoint: str, column: Callable[[FindingDocument], str]) -> TideRow:
    """A viewpoint's row by column of each finding."""
    groups: dict[str, list[FindingDocument]] = {}
    for f in findings:
        if _measured(f, viewpoint) or (f.impact.kind == "exposed" and f.pixels.get(viewpoint)):
            groups.setdefault(column(f), []).append(f)
    return TideRow(viewpoint=viewpoint, cells={name: _cell(group, viewpoint) for name, group in groups.items()})


def _measured(f: FindingDocument, viewpoint: str) -> float:
    impact = f.impact
    share = impact.by_viewpoint.get(viewpoint, 0.0)
    return share if impact.kind == "measured" else 0.0


def _cell(findings: list[FindingDocument], viewpoint: str) -> TideCell:
    measured = [f for f in findings if _measured(f, viewpoint)]
    return TideCell(
        share=min(sum(_measured(f, viewpoint) for f in measured), 1.0), exposed=not measured,
        severity=min((f.severity for f in measured or findings), key=SEVERITY_ORDER.index),
        findings=[f.fingerprint for f in findings],
    )  # fmt: skip

"""The tide table: viewpoints down, kinds of defect across. One mark, one meaning: the measured share of the frame; a thin outline
where only exposure is known; nothing where there is no impact."""

from collections.abc import Callable, Iterable
from typing import Any

from eddyfall.core.defects.contract import KINDS
from eddyfall.core.defects.registry import all_codes, code_of

SEVERITIES = ("blocking", "visible", "latent")


def kind_of(finding: dict[str, Any]) -> str:
    """The column of the tide table that a finding belongs to, as it says itself; in older documents, by its code."""
    return str(finding.get("kind") or code_of(finding["code"]).kind)


def tide_columns() -> list[dict[str, str]]:
    """The table's columns in order: each kind of defect, with the codes and words that fall under it."""
    words = {kind: "; ".join(f"{c.code}: {c.words}" for c in all_codes().values() if c.kind == kind) for kind in KINDS}
    return [{"code": kind, "words": words[kind]} for kind in KINDS]


def tide_cells(
    findings: Iterable[dict[str, Any]], viewpoint: str, column: Callable[[dict[str, Any]], str]
) -> dict[str, dict[str, Any]]:
    """Cells of a viewpoint's row by column of each finding. findings: as `finding_json` gives them.

    share: measured shares added up, to at most the whole frame; exposed: nothing is measured here, but subjects are shown."""
    found: dict[str, dict[str, Any]] = {}
    for f in findings:
        impact = f["impact"]
        share = float(impact.get("by_viewpoint", {impact["viewpoint"]: impact["share"]}).get(viewpoint, 0.0))
        measured = impact["kind"] == "measured" and share > 0
        exposed = impact["kind"] == "exposed" and bool(f["pixels"].get(viewpoint))
        if not measured and not exposed:
            continue
        key = column(f)
        cell = found.setdefault(key, {"share": 0.0, "exposed": True, "severity": f["severity"], "findings": []})
        if measured:
            if cell["exposed"]:
                cell["severity"] = f["severity"]
            cell["share"], cell["exposed"] = min(cell["share"] + share, 1.0), False
        if measured or cell["exposed"]:
            cell["severity"] = min(cell["severity"], f["severity"], key=SEVERITIES.index)
        cell["findings"].append(f["fingerprint"])
    return found

"""The tide table: viewpoints down, kinds of defect across. One mark, one meaning: the measured share of the frame; a thin outline
where only exposure is known; nothing where there is no impact."""

from collections.abc import Callable, Iterable
from typing import Any

SEVERITIES = ("blocking", "visible", "latent")


def tide_cells(findings: Iterable[dict[str, Any]], viewpoint: str, column: Callable[[str], str]) -> dict[str, dict[str, Any]]:
    """Cells of a viewpoint's row by column of a finding's code. findings: as `finding_json` gives them.

    share: measured shares added up, to at most the whole frame; exposed: nothing is measured here, but subjects are shown."""
    found: dict[str, dict[str, Any]] = {}
    for f in findings:
        impact = f["impact"]
        share = float(impact.get("by_viewpoint", {impact["viewpoint"]: impact["share"]}).get(viewpoint, 0.0))
        measured = impact["kind"] == "measured" and share > 0
        exposed = impact["kind"] == "exposed" and bool(f["pixels"].get(viewpoint))
        if not measured and not exposed:
            continue
        key = column(f["code"])
        cell = found.setdefault(key, {"share": 0.0, "exposed": True, "severity": f["severity"], "findings": []})
        if measured:
            if cell["exposed"]:
                cell["severity"] = f["severity"]
            cell["share"], cell["exposed"] = min(cell["share"] + share, 1.0), False
        if measured or cell["exposed"]:
            cell["severity"] = min(cell["severity"], f["severity"], key=SEVERITIES.index)
        cell["findings"].append(f["fingerprint"])
    return found

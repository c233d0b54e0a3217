"""Results as plain JSON with stable keys (documented in docs/formats.md). NaN and infinity become null."""

import math
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Cost, Evidence
from eddyfall.core.defects.registry import code_of
from eddyfall.core.frame.core_sample import CoreSample
from eddyfall.core.lineup.run import LineUp, Trial
from eddyfall.core.scene.changes import Change
from eddyfall.core.sweep.findings import Finding, Remedy, SweepResult


def plain(value: Any) -> Any:
    """Any nesting of numbers, arrays and text as JSON can hold it."""
    if isinstance(value, dict):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, (list, tuple, set, frozenset)):
        return [plain(v) for v in value]
    if isinstance(value, np.ndarray):
        return plain(value.tolist())
    if isinstance(value, np.generic):
        return plain(value.item())
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    return value


def document(values: dict[str, Any]) -> dict[str, Any]:
    """A JSON object of plain values."""
    return {key: plain(value) for key, value in values.items()}


def evidence_json(e: Evidence) -> dict[str, Any]:
    """One measured number."""
    return {
        "measure": e.measure,
        "value": e.value,
        "unit": e.unit,
        "limit": e.limit,
        "source": e.source,
        "predicted": e.predicted,
        "at_least": e.at_least,
        "beyond": e.beyond,
    }


def cost_json(c: Cost) -> dict[str, Any]:
    return {"name": c.name, "value": c.value, "unit": c.unit}


def change_json(c: Change) -> dict[str, Any]:
    """A change as it stands in a change file."""
    document = c.model_dump(mode="json")
    if c.operation is None:
        document.pop("operation")
    else:
        document.pop("patch")
    for op in document.get("patch", []):
        if op["op"] == "remove":
            op.pop("value")
    return document


def remedy_json(r: Remedy) -> dict[str, Any]:
    """A proven remedy."""
    return {
        "title": r.change.title, "verdict": r.verdict, "scope": r.change.scope, "predicts": r.predicts,
        "costs": [cost_json(c) for c in r.costs], "side_effects": list(r.side_effects), "warnings": list(r.warnings),
        "collateral_share": r.collateral, "new_findings": list(r.new_findings), "together": r.together, "change": change_json(r.change),
    }  # fmt: skip


def finding_json(f: Finding) -> dict[str, Any]:
    """One finding."""
    s, known = f.suspicion, code_of(f.code)
    return {
        "code": s.code,
        "title": s.title,
        "what": known.words,
        "kind": known.kind,
        "symptom": known.symptom,
        "sheet": known.sheet,
        "severity": f.severity,
        "impact": {
            "kind": f.impact.kind,
            "share": f.impact.share,
            "mean_share": f.impact.mean,
            "viewpoint": f.impact.viewpoint,
            "why": f.impact.why,
            "by_viewpoint": f.impact.by_view,
        },
        "cause": s.cause,
        "cause_kind": s.cause_kind,
        "subjects": list(s.subjects),
        "pixels": s.pixels,
        "regions": {v: list(r) for v, r in s.regions.items()},
        "evidence": [evidence_json(e) for e in s.evidence],
        "remedies": [remedy_json(r) for r in f.remedies],
        "seen_in": [
            {"role": r.role, "seen": r.seen, "leaf": r.leaf, "play_value": r.play_value, "role_value": r.role_value}
            for r in f.roles
        ],
        "facts": s.facts,
        "fingerprint": f.fingerprint,
    }


def sweep_json(result: SweepResult) -> dict[str, Any]:
    """A whole sweep."""
    return document({
        "findings": [finding_json(f) for f in result.findings], "left_out": list(result.left_out),
        "viewpoints": list(result.viewpoints), "size": list(result.size), "target": result.target,
    })  # fmt: skip


def core_sample_json(sample: CoreSample) -> dict[str, Any]:
    """A core sample, strata in the order they were laid."""
    return document(
        {
            "viewpoint": sample.viewpoint,
            "at": [sample.x, sample.y],
            "drawable": sample.drawable,
            "linear": sample.linear,
            "sum": sample.sum,
            "prepass_depth_m": sample.prepass_depth_m,
            "depth_m": sample.depth_m,
            "layers": [
                {
                    "pass": v.pass_name,
                    "drawable": v.drawable,
                    "state": v.state,
                    "colour": v.colour,
                    "weight": v.weight,
                    "before": v.before,
                    "after": v.after,
                    "depth_m": v.depth_m,
                    "facts": v.facts,
                    "alarm": v.alarm,
                }
                for v in sample.layers
            ],
            "transforms": sample.transforms,
            "exposure_scale": sample.exposure_scale,
        }
    )


def trial_json(t: Trial) -> dict[str, Any]:
    """One trial of a line-up."""
    return document(
        {
            "title": t.title,
            "verdict": t.verdict,
            "before": t.before,
            "after": t.after,
            "collateral_share": t.collateral,
            "also_changed_share": t.also_changed,
            "pass": t.pass_name,
            "scope": t.change.scope if t.change else None,
            "predicts": t.predicts,
            "because": t.because,
            "surprise": t.surprise,
            "change": change_json(t.change) if t.change else None,
        }
    )


def lineup_json(result: LineUp) -> dict[str, Any]:
    """A whole line-up, trials by rank. Scores are measured at the spot; collateral on a 240 x 135 preview."""
    return document(
        {
            "viewpoint": result.viewpoint,
            "symptom": result.symptom,
            "unit": result.unit,
            "spot": list(result.spot),
            "subject": result.subject,
            "base_score": result.base_score,
            "trials": [trial_json(t) for t in result.trials],
            "not_tried": result.not_tried,
            "passes_that_wrote": result.wrote,
            "facts": result.facts,
            "collateral_is_preview": True,
        }
    )

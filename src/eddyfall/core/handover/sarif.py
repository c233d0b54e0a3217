"""SARIF 2.1.0 (OASIS standard): findings as build-pipeline tools read them."""

from typing import Any
from urllib.parse import quote

from eddyfall import __version__
from eddyfall.core.defects.registry import all_codes
from eddyfall.core.errors import printable
from eddyfall.core.handover.documents.findings import FindingDocument
from eddyfall.core.sweep.findings import SweepResult

LEVELS = {"blocking": "error", "visible": "warning", "latent": "note"}


def sarif(result: SweepResult, artifact: str) -> dict[str, Any]:
    """The SARIF document of a sweep. artifact: file name of the scene, relative to the pipeline's folder."""
    codes = all_codes()
    names = list(codes)
    results = []
    for f in result.findings:
        text = f"{f.suspicion.title}. " + "; ".join(f"{e.measure}: {e.value:.4g} {e.unit}".strip() for e in f.evidence)
        if f.best:
            text += f". Remedy: {f.best.change.title}"
        results.append(
            {
                "ruleId": f.code,
                "ruleIndex": names.index(f.code) if f.code in names else -1,
                "level": LEVELS[f.severity],
                "message": {"text": printable(text, 2000)},
                "locations": [
                    {
                        "physicalLocation": {"artifactLocation": {"uri": quote(artifact)}},
                        "logicalLocations": [{"name": printable(s), "kind": "object"} for s in f.suspicion.subjects]
                        or [{"name": printable(f.suspicion.cause)}],
                    }
                ],
                "partialFingerprints": {"eddyfall/v1": f.fingerprint},
                "properties": FindingDocument.from_core(f).model_dump(
                    mode="json", include={"severity", "impact", "cause", "evidence"}
                ),
            }
        )
    return {
        "version": "2.1.0",
        "runs": [
            {
                "tool": {
                    "driver": {
                        "name": "Eddyfall", "version": __version__,
                        "rules": [
                            {"id": c.code, "shortDescription": {"text": c.words}, "fullDescription": {"text": c.limit or c.words},
                             "properties": {"kind": c.kind, "symptom": c.symptom}}
                            for c in codes.values()
                        ],
                    }
                },
                "artifacts": [{"location": {"uri": quote(artifact)}}],
                "results": results,
                "invocations": [
                    {"executionSuccessful": True, "toolExecutionNotifications": [
                        {"level": "note", "message": {"text": printable(note)}} for note in result.left_out]}
                ],
            }
        ],
    }  # fmt: skip

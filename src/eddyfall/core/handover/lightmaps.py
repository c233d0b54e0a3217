"""What is known of lightmaps as plain JSON with stable keys (documented in docs/formats.md)."""

import base64
from typing import Any

import numpy as np

from eddyfall.core.bake.explain import TOO_FEW_SAMPLES, Effect, Explanation
from eddyfall.core.bake.leaks import Leak
from eddyfall.core.bake.overview import AssetLine, MapState
from eddyfall.core.bake.shortlist import Shortlist
from eddyfall.core.defects.registry import code_of
from eddyfall.core.handover.report import change_json, document
from eddyfall.core.uv.copy_remedies import CopyRemedy
from eddyfall.core.uv.page import PageGeometry
from eddyfall.core.uv.report import report_json
from eddyfall.core.uv.troubles import leak_trouble, troubles


def effect_title(effect: Effect) -> str:
    """What a cause of a texel's light is called."""
    return "Too few samples" if effect.code == TOO_FEW_SAMPLES else code_of(effect.code).of_texel


def explanation_json(e: Explanation) -> dict[str, Any]:
    """An explanation of a texel."""
    return document({
        "asset": e.receiver, "light_set": e.light_set, "texel": list(e.texel), "edge": e.edge, "value_lux": e.value,
        "reference_lux": e.reference, "noise_lux": e.noise, "all_removed_lux": e.all_removed, "unexplained_lux": e.unexplained,
        "healthy": e.healthy, "facts": e.facts,
        "effects": [
            {"code": f.code, "title": effect_title(f), "without_lux": f.without, "effect_lux": f.effect, "share": f.share, "facts": f.facts}
            for f in e.effects
        ],
    })  # fmt: skip


def map_state_json(m: MapState) -> dict[str, Any]:
    return {"light_set": m.light_set, "state": m.state, "stale_texels": m.stale_texels, "why": list(m.why)}


def asset_line_json(line: AssetLine, median_texels_per_m: float) -> dict[str, Any]:
    """A receiver in a list: what charts --json says of it, without its charts one by one, and what is wrong with it, worst first."""
    report = report_json(line.report)
    skews = [line.report.page.charts[i].skew_deg or 0.0 for i in line.report.skewed]
    report["charts"], report["splits"] = len(report["charts"]), len(report["splits"])
    report["skew_deg"] = max(skews, key=abs) if skews else None
    return document(
        {
            **report,
            "node": line.node,
            "mesh": line.mesh,
            "copies": line.has_copies,
            "maps": [map_state_json(m) for m in line.maps],
            "troubles": [vars(t) for t in troubles(line.report, [m.state for m in line.maps], median_texels_per_m)],
        }
    )


def copy_remedy_json(r: CopyRemedy) -> dict[str, Any]:
    return document({**vars(r), "change": None if r.change is None else change_json(r.change)})


def leak_json(leak: Leak) -> dict[str, Any]:
    return document({
        "occluder": leak.occluder, "reach_nearest_mm": leak.reach_nearest_mm, "reach_linear_mm": leak.reach_linear_mm,
        "contrast": leak.contrast, "texels": leak.texels, "point_m": leak.point_m, "normal": leak.normal,
        "trouble": vars(leak_trouble(leak.occluder, leak.reach_linear_mm)),
    })  # fmt: skip


def shortlist_json(found: Shortlist, memory_bytes: dict[str, int]) -> dict[str, Any]:
    """A shortlist with what it would cost on this machine: times are predictions from measured rates."""
    everything = sum(c.triangles for c in found.candidates)
    chosen = sum(c.triangles for c in found.chosen)
    return document({
        "candidates": [vars(c) for c in found.candidates], "triangles_per_s": found.triangles_per_s,
        "texels_per_s": found.texels_per_s, "unwrap_all_s": everything / found.triangles_per_s,
        "unwrap_chosen_s": chosen / found.triangles_per_s, "memory_bytes": memory_bytes,
    })  # fmt: skip


def page_json(page: PageGeometry) -> dict[str, Any]:
    """A page's geometry. Arrays are base64 of little-endian float32 (chart numbers: int32), so that a large page loads fast."""

    def packed(values: np.ndarray, kind: str) -> str:
        return base64.b64encode(np.ascontiguousarray(values, kind).tobytes()).decode()

    return {
        "triangles": packed(page.triangles, "<f4"), "chart": packed(page.chart, "<i4"), "density": packed(page.density, "<f4"),
        "borders": packed(page.borders, "<f4"), "border_chart": packed(page.border_chart, "<i4"),
        "doubled": packed(page.doubled, "<f4"), "splits": packed(page.splits, "<f4"), "gutter_at": page.gutter_at,
    }  # fmt: skip

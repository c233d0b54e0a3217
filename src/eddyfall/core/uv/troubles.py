"""What is wrong with a lightmap, worst first, in words: judged here from what was measured, for every interface alike."""

from collections.abc import Iterable
from dataclasses import dataclass

from eddyfall.core.uv.report import AssetReport

SPREAD_LIMIT = 4.0  # densest over sparsest chart, and the middle asset's density over this one's: as uv.density has it


@dataclass(frozen=True)
class Trouble:
    """One thing that is wrong; the larger the weight, the worse."""

    words: str
    weight: float


def troubles(report: AssetReport, states: Iterable[str], median_texels_per_m: float) -> list[Trouble]:
    """Empty: its charts are fit and its maps fresh. states: of its maps, 'fresh', 'stale' or 'missing'; median_texels_per_m: of all
    assets' pages, 0 if none is known."""
    found: list[Trouble] = []
    shared = report.ruling_overlap.surface_share
    if shared > 0:
        found.append(Trouble(f"{shared * 100:.{1 if shared < 0.1 else 0}f} % of its surface shares texels", 90 + shared))
    if report.overlap.degenerate:
        n = report.overlap.degenerate
        found.append(Trouble(f"{n} triangle{'s have' if n > 1 else ' has'} no area on the page", 80))
    outside = report.overlap.out_of_range_share
    # Only a target that takes UVs as they are has nothing beyond its map; one that packs anew moves what lies there.
    if outside > 0 and report.uv_use == "as_is":
        found.append(Trouble(f"{outside * 100:.0f} % of it lies outside 0 to 1, where its target has no map", 60))
    skew = max((abs(report.page.charts[i].skew_deg or 0.0) for i in report.skewed), default=0.0)
    if skew:
        found.append(Trouble(f"a chart lies {skew:.1f}° off the texel grid", 50))
    if report.safe_mip is not None and report.safe_mip < 0:
        found.append(Trouble("charts touch: they bleed without any mip", 48))
    if report.seams:
        n = len(report.seams)
        found.append(Trouble(f"{n} chart{'s part' if n > 1 else ' parts'} where the surface is flat", 40))
    if report.page.density_spread > SPREAD_LIMIT:
        found.append(Trouble(f"density differs {report.page.density_spread:.3g} times between its charts", 30))
    if report.page_texels_per_m > 0 and median_texels_per_m / report.page_texels_per_m > SPREAD_LIMIT:
        found.append(Trouble(f"texels {median_texels_per_m / report.page_texels_per_m:.3g} times as large as most", 45))
    all_states = list(states)
    for state, whole, some, weight in (
        ("stale", "its lightmap is stale", "of its lightmaps stale", 70),
        ("missing", "not baked yet", "of its lightmaps not baked", 20),
    ):
        n = all_states.count(state)
        if n:
            found.append(Trouble(whole if n == len(all_states) else f"{n} {some}", weight))
    return sorted(found, key=lambda t: -t.weight)


def leak_trouble(occluder: str, reach_linear_mm: float) -> Trouble:
    """What a leak past an occluder adds."""
    return Trouble(f"light leaks {reach_linear_mm:.0f} mm past {occluder}", 75)


def median_density(reports: Iterable[AssetReport]) -> float:
    """Texels/m of the middle one of some assets' pages; 0 if there is none."""
    known = sorted(r.page_texels_per_m for r in reports if r.page_texels_per_m > 0)
    return known[len(known) // 2] if known else 0.0

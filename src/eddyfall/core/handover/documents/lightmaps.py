"""Lightmaps: receivers and the state of their maps, why a texel is as it is, leaks, copies, what is worth baking."""

from typing import Any, Literal, Self

from eddyfall.core.bake.questions.explain import TOO_FEW_SAMPLES, Effect, Explanation
from eddyfall.core.bake.questions.leaks import Leak
from eddyfall.core.bake.questions.overview import AssetLine, MapState
from eddyfall.core.bake.questions.shortlist import Candidate, Shortlist
from eddyfall.core.defects.registry import code_of
from eddyfall.core.handover.documents.base import Document, Facts, Numbers, Whole, WholePair
from eddyfall.core.handover.documents.changes import optional_change
from eddyfall.core.handover.documents.charts import PageMeasures, page_measures
from eddyfall.core.uv.copy_remedies import CopyRemedy
from eddyfall.core.uv.troubles import Trouble, leak_trouble, troubles


def effect_title(effect: Effect) -> str:
    """What a cause of a texel's light is called."""
    return "Too few samples" if effect.code == TOO_FEW_SAMPLES else code_of(effect.code).of_texel


class EffectDocument(Document):
    """One cause taken away alone: what the texel would then be, what it adds, its share of the deviation from the reference."""

    code: str
    title: str
    without_lux: float
    effect_lux: float
    share: float
    facts: Facts

    @classmethod
    def from_core(cls, f: Effect) -> Self:
        return cls(code=f.code, title=effect_title(f), without_lux=f.without, effect_lux=f.effect, share=f.share, facts=f.facts)


class TexelFacts(Document):
    """Where a texel lies. owned: it is of a chart itself, not beside one; stored: it is read from a stored lightmap."""

    stored: bool
    owned: bool
    drawable: str
    place_m: Numbers
    texel_mm: Numbers
    samples: int
    filter: str


class ExplanationDocument(Document):
    """Why a texel is as it is: all values in lux, effects strongest first."""

    asset: str
    light_set: str | None
    texel: WholePair
    edge: int
    value_lux: float
    reference_lux: float
    noise_lux: float
    all_removed_lux: float
    unexplained_lux: float
    healthy: bool
    facts: TexelFacts
    effects: list[EffectDocument]

    @classmethod
    def from_core(cls, e: Explanation) -> Self:
        return cls(
            asset=e.receiver, light_set=e.light_set, texel=e.texel, edge=e.edge, value_lux=e.value, reference_lux=e.reference,
            noise_lux=e.noise, all_removed_lux=e.all_removed, unexplained_lux=e.unexplained, healthy=bool(e.healthy),
            facts=TexelFacts.model_validate(e.facts), effects=[EffectDocument.from_core(f) for f in e.effects],
        )  # fmt: skip


class MapStateDocument(Document):
    """One receiver in one light set."""

    light_set: str | None
    state: Literal["missing", "stale", "fresh"]
    stale_texels: int
    why: list[str]

    @classmethod
    def from_core(cls, m: MapState) -> Self:
        return cls.model_validate(
            {"light_set": m.light_set, "state": m.state, "stale_texels": m.stale_texels, "why": list(m.why)}
        )


class TroubleDocument(Document):
    """One thing that is wrong with a receiver's lightmap; the larger the weight, the worse."""

    words: str
    weight: float

    @classmethod
    def from_core(cls, t: Trouble) -> Self:
        return cls(words=t.words, weight=t.weight)


class AssetDocument(PageMeasures):
    """A receiver in a list: its charts and needless splits counted, and what is wrong with it, worst first."""

    charts: int
    splits: int
    skew_deg: float | None
    node: str
    mesh: str
    copies: bool
    maps: list[MapStateDocument]
    troubles: list[TroubleDocument]

    @classmethod
    def from_core(cls, line: AssetLine, median_texels_per_m: float) -> Self:
        report = line.report
        skews = [report.page.charts[i].skew_deg or 0.0 for i in report.skewed]
        found = troubles(report, [m.state for m in line.maps], median_texels_per_m)
        return cls(
            **dict(page_measures(report)), charts=len(report.page.charts), splits=len(report.seams),
            skew_deg=max(skews, key=abs) if skews else None, node=line.node, mesh=line.mesh, copies=line.has_copies,
            maps=[MapStateDocument.from_core(m) for m in line.maps], troubles=[TroubleDocument.from_core(t) for t in found],
        )  # fmt: skip


class CopyRemedyDocument(Document):
    """One way to part the copies of a mesh, tried. Shares 0..1 by the target's rule."""

    title: str
    texel_share: float
    surface_share: float
    modulo_share: float
    texels_per_m: float
    price: str
    cures: bool
    change: dict[str, Any] | None

    @classmethod
    def from_core(cls, r: CopyRemedy) -> Self:
        return cls.model_validate({**vars(r), "change": optional_change(r.change)})


class LeakDocument(Document):
    """Texels that hold both sides of an occluder."""

    occluder: str
    reach_nearest_mm: float
    reach_linear_mm: float
    contrast: float
    texels: Whole
    point_m: Numbers
    normal: Numbers
    trouble: TroubleDocument

    @classmethod
    def from_core(cls, leak: Leak) -> Self:
        trouble = TroubleDocument.from_core(leak_trouble(leak.occluder, leak.reach_linear_mm))
        return cls.model_validate({**{k: v for k, v in vars(leak).items() if k in cls.model_fields}, "trouble": trouble})


class CandidateDocument(Document):
    """A node that could have a lightmap; times are predictions from measured rates. why: why it is skipped, empty if it is not."""

    node: str
    area_m2: float
    triangles: int
    contrast: float
    value: float
    resolution: int
    bytes: int
    unwrap_s: float
    bake_s: float
    noise: float
    why: str
    mapped: bool

    @classmethod
    def from_core(cls, c: Candidate) -> Self:
        return cls.model_validate(vars(c))


class ShortlistDocument(Document):
    """What is worth a lightmap and what it would cost on this machine: times are predictions from measured rates."""

    candidates: list[CandidateDocument]
    triangles_per_s: float
    texels_per_s: float
    unwrap_all_s: float
    unwrap_chosen_s: float
    memory_bytes: dict[str, int]

    @classmethod
    def from_core(cls, found: Shortlist, memory_bytes: dict[str, int]) -> Self:
        everything, chosen = sum(c.triangles for c in found.candidates), sum(c.triangles for c in found.chosen)
        return cls(
            candidates=[CandidateDocument.from_core(c) for c in found.candidates], triangles_per_s=found.triangles_per_s,
            texels_per_s=found.texels_per_s, unwrap_all_s=everything / found.triangles_per_s,
            unwrap_chosen_s=chosen / found.triangles_per_s, memory_bytes=memory_bytes,
        )  # fmt: skip

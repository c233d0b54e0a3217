"""Core samples: everything that touched one pixel, first laid first."""

from typing import Annotated, Self

from pydantic import BeforeValidator, Field

from eddyfall.core.frame.core_sample import CoreSample
from eddyfall.core.handover.documents.base import Document, Facts, Finite, Numbers, WholePair, plain
from eddyfall.core.passes.recorder import Layer

Transforms = Annotated[list[str], BeforeValidator(plain)]


class LayerDocument(Document):
    """One stratum: linear rgb, its weight in what is seen, the pixel before and after it was laid. alarm: what is wrong with it in a few
    words; empty if nothing is."""

    pass_name: str = Field(alias="pass")
    drawable: str
    state: str
    colour: Numbers
    weight: Numbers
    before: Numbers
    after: Numbers
    depth_m: Finite
    facts: Facts
    alarm: str

    @classmethod
    def from_core(cls, v: Layer) -> Self:
        return cls.model_validate({name: getattr(v, name) for name in cls.model_fields})


class CoreSampleDocument(Document):
    """A pixel (x, y) and its strata; their colours times weights add up to `sum`, which is `linear`."""

    viewpoint: str
    at: WholePair
    drawable: str | None
    linear: Numbers
    sum: Numbers
    prepass_depth_m: Finite
    depth_m: Finite
    layers: list[LayerDocument]
    transforms: Transforms
    exposure_scale: float

    @classmethod
    def from_core(cls, sample: CoreSample) -> Self:
        return cls.model_validate({
            "viewpoint": sample.viewpoint, "at": (sample.x, sample.y), "drawable": sample.drawable, "linear": sample.linear,
            "sum": sample.sum, "prepass_depth_m": sample.prepass_depth_m, "depth_m": sample.depth_m,
            "layers": [LayerDocument.from_core(v) for v in sample.layers], "transforms": sample.transforms,
            "exposure_scale": sample.exposure_scale,
        })  # fmt: skip

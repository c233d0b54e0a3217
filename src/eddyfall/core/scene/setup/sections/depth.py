"""Section `depth`: the depth buffer, its copy, and who reads it."""

from typing import Literal

from pydantic import ValidationInfo, field_validator
from pydantic_core import PydanticCustomError

from eddyfall.core.scene.setup.leaf import Section, leaf
from eddyfall.core.scene.setup.registry import register_section


@register_section("depth", place=10)
class Depth(Section):
    format: Literal["unorm16", "unorm24", "float32"] = leaf("unorm24", "-", "number format of the depth buffer")
    reversed: bool = leaf(False, "-", "near is stored as 1 and far as 0")
    near_m: float = leaf(0.1, "m", "near plane of every viewpoint", gt=0, le=1000)
    far_m: float | None = leaf(None, "m", "far plane; null is infinitely far", gt=0)
    copy_from: Literal["none", "prepass", "opaque"] = leaf(
        "prepass", "-", "when the depth copy that fog reads is taken; none reads as far everywhere"
    )

    @field_validator("far_m")
    @classmethod
    def _beyond_near(cls, far_m: float | None, info: ValidationInfo) -> float | None:
        if far_m is not None and far_m <= info.data.get("near_m", 0.0):
            raise PydanticCustomError("far", "far_m must be beyond near_m")
        return far_m

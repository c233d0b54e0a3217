"""Section `bake`: how the target uses lightmap UVs."""

from typing import Literal

from eddyfall.core.scene.setup.leaf import Section, leaf


class Bake(Section):
    uv_use: Literal["repacked", "as_is"] = leaf(
        "repacked", "-", "repacked lays charts out anew, so whole tiles are free space; as_is takes uv modulo 1", "bake"
    )
    unique_per: Literal["mesh", "part"] = leaf(
        "mesh", "-", "whether one lightmap serves a whole mesh or each material part has its own", "bake"
    )
    resolution: int = leaf(256, "texel", "edge of a lightmap where the node does not say", "bake", ge=8, le=8192)
    gutter_texels: int = leaf(2, "texel", "free texels kept around charts when they are packed anew", "bake", ge=0, le=64)

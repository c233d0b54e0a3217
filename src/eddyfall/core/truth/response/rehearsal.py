"""A swap of base shaders, rehearsed: what it changes in the sun, in shade and in frames, before anybody keeps it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from eddyfall.core.compare.ciede2000 import delta_e_2000
from eddyfall.core.frame.render import DEFAULT_SIZE, Renderer, Request
from eddyfall.core.materials.swap import Swap
from eddyfall.core.passes.display import encode_display
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.scene.maps import drawn_maps
from eddyfall.core.truth.response.alone import Alone, alone, card_in_sun
from eddyfall.core.truth.response.in_place import in_place


@dataclass(frozen=True)
class Seen:
    """At a viewpoint: pixels that show the material, of them those that show a shader's default picture; R of its worst drawable before
    and after."""

    viewpoint: str
    pixels: int
    default_px: int
    before: float
    after: float


@dataclass(frozen=True)
class Rehearsal:
    """How the material answers by itself before and after; sun_delta_e: mean CIEDE2000 of the two in the sun, exposed so that white is
    white; at each viewpoint that shows it."""

    swap: Swap
    before: Alone
    after: Alone
    sun_delta_e: float
    seen: tuple[Seen, ...]


def rehearse(renderer: Renderer, build: Build, swap: Swap, viewpoints: Sequence[str], target: str | None = None) -> Rehearsal:
    """Do a swap and look at it from viewpoints, without keeping it."""
    after = apply_change(build, swap.change)
    suns = [encode_display(card_in_sun(renderer, b, swap.material) * np.float32(math.pi)) for b in (build, after)]
    index = build.scene.material_keys.index(swap.material)
    defaults = any(m.shows == "default" for m in drawn_maps(after, index).values())
    mine = [i for i, d in enumerate(renderer.geometry(build).drawables) if d.material == index]
    seen = []
    for viewpoint in viewpoints:
        request = Request(viewpoint, DEFAULT_SIZE, None, target)
        pixels = int(np.isin(renderer.frame(build, request, "linear").drawable, mine).sum())
        if pixels:
            worst = [min((p.answer for p in in_place(renderer, b, request, mine)), default=1.0) for b in (build, after)]
            seen.append(Seen(viewpoint, pixels, pixels if defaults else 0, *worst))
    return Rehearsal(
        swap,
        alone(renderer, build, swap.material),
        alone(renderer, after, swap.material),
        float(delta_e_2000(*suns).mean()),
        tuple(seen),
    )

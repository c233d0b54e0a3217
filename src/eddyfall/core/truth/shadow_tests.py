"""The test chain of one surface and light in words and numbers: what each test measures, its limit, and the value of the setting that
decides at which it would just pass."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import LightState, LookUp
from eddyfall.core.passes.frustum import ball_radius_m, limit_range_m, padding_into_frustum_m, padding_needed_m, range_m
from eddyfall.core.scene.setup.sections.shadow import Shadow, size_limit
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.shadow_classes import LOST_WORDS, Chain, Lost
from eddyfall.core.truth.surfaces import Surfaces, to_light

BIAS_STEPS = 96
WIDTH_STEPS = 64


@dataclass(frozen=True)
class ShadowTest:
    """One test of the chain. value against limit in `unit`; margin: how far inside it is (negative: outside). leaf: the setting that
    decides, if one does, and the level it is set at; critical: the leaf's value at which the test would just pass (a prediction)."""

    name: str
    passed: bool
    value: float | None = None
    limit: float | None = None
    margin: float | None = None
    unit: str = "-"
    leaf: str = ""
    level: str = ""
    critical: float | None = None


class ShadowTests:
    """The tests of one surface whose shadow is due. chain: as `chain_of` gives it for that surface; drawn: share of the light that the
    picture has there."""

    def __init__(self, judge: Judge, surface: Surfaces, light: int, chain: Chain, drawn: float) -> None:
        self.j, self.s, self.i, self.chain, self.drawn = judge, surface, light, chain, drawn
        self.geometry, self.shadow = judge.frame.geometry, judge.shadow
        self.light = judge.frame.stage.lights[light]
        self.leaves = judge.frame.stage.resolved.leaves
        self.towards, self.distance = to_light(surface, light, judge.frame)
        self.front = int(surface.drawable[0])

    def all(self) -> tuple[ShadowTest, ...]:
        """Every test, in order; those that the light's technique does not make are left out."""
        chain, drawn = self.chain, self.drawn
        state, d = self.j.state, int(chain.caster[0])
        thing, surface = self.geometry.drawables[d], self.geometry.drawables[self.front]
        passed = {test: bool(chain.passed[0, test]) for test in Lost if test is not Lost.UNEXPLAINED}
        material = self.j.frame.geometry.drawables[d].material
        tests = [
            self._switch(Lost.SWITCHED_OFF, passed, "shadow.enabled"),
            ShadowTest(LOST_WORDS[Lost.LIGHT], passed[Lost.LIGHT], leaf=f"lights.{self.light.name}.casts", level="light"),
            ShadowTest(LOST_WORDS[Lost.RECEIVER], passed[Lost.RECEIVER], leaf=f"nodes.{surface.node}.receives", level="node"),
            ShadowTest(LOST_WORDS[Lost.CASTS], passed[Lost.CASTS], leaf=f"nodes.{thing.node}.casts", level="node"),
            ShadowTest(LOST_WORDS[Lost.PASS], passed[Lost.PASS], leaf=f"shaders.{state.shader[d]}.passes.shadow", level="shader"),
            self._side(passed[Lost.FACE], material),
        ]  # fmt: skip
        if self.j.traced(self.i) or self.light.technique == "paged" or self.shadow.casters_from != "scene":
            tests.append(self._culled(d, passed[Lost.CULLED]))
        if self.j.traced(self.i):
            gap = float(chain.caster_m[0])
            offset = self.shadow.ray_offset_m
            return (
                *tests,
                ShadowTest(
                    "the ray starts below the caster", passed[Lost.BIAS], offset, gap, gap - offset, "m", "shadow.ray_offset_m",
                    self.leaves["shadow.ray_offset_m"].winner, gap if not passed[Lost.BIAS] and gap < offset else None,
                ),
            )  # fmt: skip
        if self.light.kind == DIRECTIONAL and self.light.technique == "cascades":
            tests.append(self._served())
        if chain.reading is None or chain.reading.k[0] < 0:
            return tuple(tests)
        if self.shadow.depth_range != "scene":
            away, room = float(chain.caster_m[0]), float(chain.reading.room_m[0])
            tests.append(
                ShadowTest(LOST_WORDS[Lost.DEPTH_RANGE], passed[Lost.DEPTH_RANGE], away, room, room - away, "m", "shadow.depth_range",
                           self.leaves["shadow.depth_range"].winner)
            )  # fmt: skip
        if self.j.frame.buffers["cutouts"].material[d] >= 0:
            tests.append(ShadowTest(LOST_WORDS[Lost.ALPHA], passed[Lost.ALPHA], leaf=f"materials.{material}", level="material"))
        tests += [self._covered(chain, drawn), self._biased()]
        return tuple(tests)

    def _switch(self, test: Lost, passed: dict[Any, bool], leaf: str) -> ShadowTest:
        return ShadowTest(LOST_WORDS[test], passed[test], leaf=leaf, level=self.leaves[leaf].winner)

    def _side(self, passed: bool, material: int) -> ShadowTest:
        """Which side is drawn, the light says; whether both are, the material."""
        words = LOST_WORDS[Lost.FACE]
        if self.light.faces == "back":
            return ShadowTest(words, passed, leaf=f"lights.{self.light.name}.faces", level="light")
        return ShadowTest(words, passed, leaf=f"materials.{material}.casts_both_sides", level="material")

    def _culled(self, d: int, passed: bool) -> ShadowTest:
        """What the technique leaves out: by the angle that the caster's padded ball is seen under, or outside of the frame."""
        state, camera, words = self.j.state, self.j.frame.camera, LOST_WORDS[Lost.CULLED]
        node = self.geometry.drawables[d].node
        away, radius = float(range_m(self.geometry, camera)[d]), float(ball_radius_m(self.geometry, state.padding_m)[d])
        if self.light.technique == "cascades":
            (low, high), farthest = self.geometry.bounds[d], float(state.draw_distance_m[d])
            if 0 < farthest < away:
                return ShadowTest(
                    words, passed, away, farthest, farthest - away, "m", f"nodes.{node}.draw_distance_m", "node", away
                )  # fmt: skip
            sweep = -np.array(self.light.towards) * 2 * self.geometry.diagonal_m if self.shadow.casters_from == "swept" else None
            have, least = float(state.padding_m[d]), padding_into_frustum_m(camera, low, high, sweep)
            return ShadowTest(
                words, passed, have, least, have - least, "m", f"nodes.{node}.bounds_padding_m", "node", None if passed else least
            )  # fmt: skip
        _, limit_deg = size_limit(self.shadow, self.light.technique)
        limit = float(limit_range_m(radius, limit_deg))
        if self.light.technique == "paged" and state.dense[d]:
            limit = math.inf
        needed = float(padding_needed_m(radius - float(state.padding_m[d]), away, limit_deg))
        finite = math.isfinite(limit)
        return ShadowTest(
            words, passed, away, limit if finite else None, limit - away if finite else None, "m", f"nodes.{node}.bounds_padding_m", "node",
            needed if finite else None,
        )  # fmt: skip

    def _served(self) -> ShadowTest:
        """A sun's maps end at a view depth, or at a range."""
        end = max(self.shadow.reach_m, self.shadow.far_reach_m)
        leaf = "shadow.far_reach_m" if self.shadow.far_reach_m > self.shadow.reach_m else "shadow.reach_m"
        depth = float((self.s.range_m if self.shadow.reach_by == "range" else self.s.depth_m)[0])
        return ShadowTest(
            LOST_WORDS[Lost.REACH], depth < end, depth, end, end - depth, "m", leaf, self.leaves[leaf].winner, depth
        )  # fmt: skip

    def _covered(self, chain: Chain, drawn: float) -> ShadowTest:
        """A texel holds what stands at its centre, and the filter mixes its neighbours in: a shadow narrower than that is thinned or lost.
        Measured at the place itself, as width in texels; the bias is a test of its own."""
        share, texel = float(chain.share[0]), float(chain.reading.texel_m[0]) if chain.reading is not None else 0.0
        wide = self._width_m(texel) / max(texel, 1e-12)
        leaf, set_to = self._resolution()
        filter_px = self.light.look_up.filter_px
        passed = share >= 0.5 if drawn >= 0.5 else True
        critical = None
        if not passed and wide > 0 and self.light.technique != "paged":
            critical = float(math.ceil(set_to * filter_px / wide))
        return ShadowTest(
            LOST_WORDS[Lost.WIDTH], passed, wide, float(filter_px), wide - filter_px, "texel", leaf, self._level(leaf),
            critical if critical is not None and critical <= 8192 else None,
        )  # fmt: skip

    def _resolution(self) -> tuple[str, int]:
        """(leaf, its value) that says how fine the light's maps are."""
        if self.light.technique == "paged":
            return "shadow.page_texel_px", 0
        if self.light.resolution is not None:
            return f"lights.{self.light.name}.resolution", self.light.resolution
        if self.light.kind == DIRECTIONAL:
            return "shadow.resolution", self.shadow.resolution
        return "shadow.light_resolution", self.shadow.light_resolution

    def _level(self, leaf: str) -> str:
        """At which level a leaf is set: a light's own, or what resolving says."""
        return "light" if leaf.startswith("lights.") else self.leaves[leaf].winner

    def _width_m(self, texel_m: float) -> float:
        """How wide the true shadow is at its narrowest across the light's rays, measured in sixteenths of a texel up to four texels to
        either side."""
        if texel_m <= 0:
            return 0.0
        steps = np.arange(1, WIDTH_STEPS + 1) * texel_m / 16
        lit = np.stack([self.j.lit_around(self.i, self.s, self.towards, self.distance, np.array([step])) for step in steps])[
            ..., 0
        ]
        # The first step at which each of the eight directions is lit; diagonal ones are sqrt(2) longer.
        first = np.where(lit.any(axis=0), steps[lit.argmax(axis=0)], steps[-1]) * np.tile([1.0, math.sqrt(2)], 4)
        return float((first[:4] + first[4:]).min())

    def _biased(self) -> ShadowTest:
        """The look-up lifts the surface towards the light and moves it along its normal: beyond the gap to the caster it passes the shadow
        by. Measured on the one of the light's biases that brings the shadow back when it is smaller, the others as they are."""
        set_to = bias_leaves(self.light, self.shadow)
        dark = {leaf: self._darkness_by(leaf) for leaf in set_to}
        leaf = next(
            (v for v in set_to if set_to[v] > 0 and dark[v](0.0)), next((v for v in set_to if set_to[v] > 0), [*set_to][-1])
        )
        value, is_dark = set_to[leaf], dark[leaf]
        held = [b for b in np.linspace(0, value, BIAS_STEPS) if is_dark(float(b))]
        passed = is_dark(value) or not held  # without any bias it is no better: something else lost it
        most = float(max(held)) if held else None
        return ShadowTest(
            LOST_WORDS[Lost.BIAS], passed, value, most, None if most is None else most - value, BIAS_UNITS[leaf.rpartition(".")[2]], leaf,
            self._level(leaf), most if value > 0 else None,
        )  # fmt: skip

    def _darkness_by(self, leaf: str) -> Callable[[float], bool]:
        """Whether the surface is mostly dark with a leaf at some value."""
        field, look_up = leaf.rpartition(".")[2], self.light.look_up

        def dark(value: float) -> bool:
            tried = with_bias(look_up, field, value)
            return float(self.j.drawn(self.i, self.s, self.towards, self.distance, tried)[0]) < 0.5

        return dark


BIAS_UNITS = {"bias_mm": "mm", "bias_slope": "texel", "bias_normal_texels": "texel", "bias_texels": "texel"}


def bias_leaves(light: LightState, shadow: Shadow) -> dict[str, float]:
    """The leaves that say how a light's look-up is biased, and what each is set to; its own, and the project's where it has no own."""
    own, name = light.look_up, f"lights.{light.name}"
    leaves = {f"{name}.bias_mm": own.constant_m * 1000, f"{name}.bias_slope": own.slope}
    if own.over > 0:
        return {**leaves, "shadow.bias_texels": shadow.bias_texels}
    return {**leaves, f"{name}.bias_normal_texels": own.normal_texels}


def with_bias(look_up: LookUp, field: str, value: float) -> LookUp:
    """A look-up with one of its leaves at another value."""
    match field:
        case "bias_mm":
            return replace(look_up, constant_m=value / 1000)
        case "bias_slope":
            return replace(look_up, slope=value)
        case "bias_normal_texels":
            return replace(look_up, normal_texels=value)
        case _:
            return replace(look_up, normal_texels=value + 0.5 * (look_up.filter_px - 1))

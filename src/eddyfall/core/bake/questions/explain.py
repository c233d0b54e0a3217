"""Texel provenance: why a lightmap texel is as it is.

Each possible cause is taken away by itself and the texel made again; what that changes is the cause's effect. All causes taken away
together, and what is then still missing to an independent reference, stand beside. Nothing is normalised: causes overlap.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from eddyfall.core.bake.light.footprint import Footprint
from eddyfall.core.bake.light.gather import Job, Samples, gather, samples_of
from eddyfall.core.bake.maps.finish import Finish, Raw, finished
from eddyfall.core.bake.questions.own_side import own_side, same_side
from eddyfall.core.bake.questions.texel_window import MOST_SAMPLES, Window
from eddyfall.core.frame.lightmap_store import as_target_stores, stored_map
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry, pack
from eddyfall.core.scene.receivers import receiver_named
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.shade.lightmap_codes import to_codes
from eddyfall.core.shade.srgb import luminance

MORE_SAMPLES = 16
REFERENCE_SAMPLES = 4096
TOLERANCE = 0.03  # a texel is healthy within this share of its value, and three standard errors
MOST_NOISE = 0.25  # of its value: where noise is larger, nothing can be called healthy

TOO_FEW_SAMPLES = "noise.samples"  # a cause that no family finds: noise is no defect, more samples end it


@dataclass(frozen=True)
class Effect:
    """One cause. without: luminance (lux) of the texel with this cause alone taken away; effect: value - without; share: effect over
    the texel's whole deviation from the reference; facts by name."""

    code: str
    without: float
    effect: float
    share: float
    facts: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Explanation:
    """value, reference, all_removed and unexplained in lux (luminance); unexplained = all_removed - reference; effects, strongest first."""

    receiver: str
    light_set: str | None
    texel: tuple[int, int]
    edge: int
    value: float
    reference: float
    noise: float
    all_removed: float
    unexplained: float
    healthy: bool
    effects: tuple[Effect, ...]
    facts: dict[str, Any] = field(default_factory=dict)


def explain(
    build: Build,
    asset: str,
    texel: tuple[int, int],
    light_set: str | None = None,
    *,
    bake: Bake | None = None,
    geometry: Geometry | None = None,
) -> Explanation:
    """Why texel (x, y) of an asset's lightmap is as it is. RequestError if there is no such asset or texel, or no chart near it."""
    geometry = geometry or pack(build.scene, build.setup)
    bake = bake or build.setup[Bake]
    receiver = receiver_named(build, geometry, asset)
    return _Explainer(build, geometry, receiver, light_set, bake, texel).run()


class _Explainer(Window):
    # -- the texel made again, with some causes taken away --

    def value(
        self,
        *,
        keep: np.ndarray | None = None,
        how: Finish | None = None,
        samples: Samples | None = None,
        noise_of: int | None = None,
    ) -> np.ndarray:
        """(3,) lux of the finished texel: keep (m, n) bool samples that count (default all); noise_of: number of samples a texel that
        the denoiser is told of (default: the bake's)."""
        got, owned = samples or self.samples, self.owned
        counts = np.ones(got.hidden.shape, bool) if keep is None else keep
        weight = counts.astype(float)
        total = np.maximum(weight.sum(axis=1), 1)
        seen = weight * ~got.hidden
        mean = (got.light * weight[..., None]).sum(axis=1) / total[:, None]
        seen_mean = (got.light * seen[..., None]).sum(axis=1) / np.maximum(seen.sum(axis=1), 1)[:, None]
        hidden = 1 - seen.sum(axis=1) / total
        y = luminance(got.light[:, : self.bake.samples] if keep is self.baked else got.light)
        variance = ((y - y.mean(axis=1, keepdims=True)) ** 2).mean(axis=1)

        def page(values: np.ndarray, fill: float, dtype: Any) -> np.ndarray:
            grid = np.full((self.edge * self.edge, *values.shape[1:]), fill, dtype)
            grid[owned.texel] = values
            return grid.reshape(self.edge, self.edge, *values.shape[1:])

        raw = Raw(
            page(mean, 0, np.float32), page(seen_mean, 0, np.float32), page(variance, 0, np.float32), page(hidden, 0, np.float32),
            owned.covered, page(self.sheet, -1, np.int32), np.zeros((1, 1), np.int32), noise_of or self.bake.samples,
        )  # fmt: skip
        return np.asarray(finished(raw, how or Finish.from_bake(self.bake))[self.texel[1], self.texel[0]], np.float64)

    def run(self) -> Explanation:
        fresh, expected = self.value(keep=self.baked), self.value()
        found = stored_map(self.build, self.receiver.name, self.light_set)
        if found is not None and found.values.shape[0] == self.edge:
            baked = found.values
            shown = as_target_stores(baked, found.record, self.bake)[self.texel[1], self.texel[0]]
            before_target = baked[self.texel[1], self.texel[0]]
        else:
            shown, before_target = fresh, fresh
        value = float(luminance(np.asarray(shown, np.float64)))
        sides, side_facts = own_side(self)
        sheet = self.sheet_of_sample == self.sheet[:, None]
        more = self._more()
        rotated = self._aligned()
        base = Finish.from_bake(self.bake)
        best = replace(base, hidden="mask", denoise="within_charts" if base.denoise == "across_gaps" else base.denoise)
        trials: list[tuple[str, Callable[[], np.ndarray], dict[str, Any]]] = [
            ("bake.leak", lambda: self.value(keep=sides), side_facts),
            ("bake.hidden-faces", lambda: self.value(how=replace(base, hidden="mask")), self._hidden_facts()),
            ("uv.overlap", lambda: self.value(keep=sheet), self._overlap_facts()),
            ("bake.denoise-lines", lambda: self.value(how=replace(base, denoise=best.denoise)), {}),
            (TOO_FEW_SAMPLES, lambda: self.value(samples=more), {"samples": self.bake.samples}),
        ]
        if rotated is not None:
            aligned, skew, _ = rotated
            trials.append(
                ("uv.off-grid", lambda: self.value(samples=aligned), {"skew_deg": skew, "step_texels": self._step(skew)})
            )
        if len(self.scene.focus):
            everywhere = samples_of(self.scene, replace(self.job, everywhere=True))
            trials.append(("bake.uncovered", lambda: self.value(samples=everywhere), {}))

        def y(rgb: np.ndarray) -> float:
            return float(luminance(np.asarray(rgb, np.float64)))

        here, mean = y(fresh), y(expected)
        effects = [(code, (here if code == TOO_FEW_SAMPLES else mean) - y(make()), facts) for code, make, facts in trials]
        # What is stored differs from the fresh texel by its codes, and by being out of date.
        codes = self._codes(fresh)
        effects.append(("bake.banding", (y(codes) - here) + (value - y(before_target)), {"encoding": self.bake.encoding}))
        effects.append(("bake.stale", y(before_target) - y(codes if found is not None else fresh), {}))
        together = self._together(sides & sheet, best, rotated)
        reference = self._reference(sides & sheet, None if rotated is None else rotated[2])
        deviation = value - reference
        counted = luminance(self.samples.light[self.centre][(sides & sheet)[self.centre]])  # sides that differ are no noise
        noise = float(np.sqrt(counted.var() / self.bake.samples)) if len(counted) else 0.0
        largest = max(abs(reference), abs(value))
        tolerance = TOLERANCE * largest + min(3 * noise, MOST_NOISE * largest)
        seen_at = TOLERANCE * largest + min(3 * noise * math.sqrt(self.bake.samples / self.job.samples), MOST_NOISE * largest)
        scale = deviation if abs(deviation) > 1e-12 else max(abs(value), 1e-12)
        listed = tuple(
            Effect(code, value - effect, effect, effect / scale, facts)
            for code, effect, facts in sorted(effects, key=lambda e: -abs(e[1]))
        )
        strongest = max((abs(e.effect) for e in listed if e.code != TOO_FEW_SAMPLES), default=0.0)
        healthy = abs(deviation) <= tolerance and strongest <= seen_at
        return Explanation(
            self.receiver.name, self.light_set, self.texel, self.edge, value, reference, noise, y(together), y(together) - reference,
            bool(healthy), listed, self._facts(found is not None),
        )  # fmt: skip

    def _codes(self, rgb: np.ndarray) -> np.ndarray:
        from eddyfall.core.shade.lightmap_codes import from_codes

        found = stored_map(self.build, self.receiver.name, self.light_set)
        encoding = found.record.encoding if found is not None else self.bake.encoding
        scale = found.record.scale_lux if found is not None else (self.bake.range_lux or float(np.max(rgb)) or 1.0)
        codes = to_codes(np.asarray(rgb)[None, None], encoding, scale)
        return np.asarray(from_codes(codes, encoding, scale)[0, 0], np.float64)

    # -- what each cause knows --

    def _hidden_facts(self) -> dict[str, Any]:
        share = self.samples.hidden.mean(axis=1)
        dark = np.flatnonzero(share > 0.5)
        column, row = self.owned.texel % self.edge, self.owned.texel // self.edge
        if not len(dark):
            return {}
        away = np.maximum(np.abs(column[dark] - self.texel[0]), np.abs(row[dark] - self.texel[1])).min()
        return {"hidden_share": float(share[self.centre]), "nearest_hidden_texels": int(away)}

    def _overlap_facts(self) -> dict[str, Any]:
        k = self.centre
        other = self.sheet_of_sample[k] != self.sheet[k]
        if not other.any():
            return {}
        names = {
            self.geometry.drawables[self.geometry.owner[self.triangles[t]]].name
            for t, sheet in zip(*self.sheets[k])
            if sheet != self.sheet[k]
        }
        places = self.samples.place[k][other].mean(axis=0)
        return {"others": sorted(names), "share": float(other.mean()), "other_place_m": [round(float(v), 3) for v in places]}

    def _more(self) -> Samples:
        """The same texels with many more samples."""
        n = min(self.bake.samples * MORE_SAMPLES, max(MOST_SAMPLES, self.bake.samples))
        return self._means(replace(self.job, samples=n))

    def _means(self, job: Job) -> Samples:
        """A job's results as one sample a texel of everything (its mean), or two where some are hidden."""
        got = gather(self.scene, job)
        m = len(job.footprint.texel)
        light = np.repeat(got.mean[:, None], 10, axis=1)
        hidden = np.arange(10)[None] < np.rint(got.hidden * 10)[:, None]
        seen = (~hidden).sum(axis=1)
        for k in range(m):
            if 0 < seen[k] < 10:
                light[k, ~hidden[k]] = got.seen_mean[k]
                light[k, hidden[k]] = (got.mean[k] * 10 - got.seen_mean[k] * seen[k]) / (10 - seen[k])
        shape = (m, 10)
        return Samples(
            light, hidden, np.full(shape, -1), np.zeros((*shape, 3)), np.zeros((*shape, 3)), got.lights, got.drawables, got.rays
        )

    def _step(self, skew: float) -> float:
        return 1.0 / max(abs(math.tan(math.radians(skew))), 1e-9)

    def _aligned(self) -> tuple[Samples, float, Footprint] | None:
        """(samples with those of the texel asked about taken at its middle, the chart's angle in degrees, that spot), None if the chart
        is not skewed. On a chart along the grid an edge of light can run between texels, so that none holds both; on a skewed one every
        edge cuts texels, a step each 1 / tan of the angle."""
        skew = self.page.charts[int(self.sheet[self.centre]) % len(self.page.charts)].skew_deg
        if skew is None or abs(skew) < 0.5 or self.receiver.wraps:
            return None
        spot = self.spot()
        own = samples_of(self.scene, replace(self.job, footprint=spot))
        light, hidden = self.samples.light.copy(), self.samples.hidden.copy()
        light[self.centre], hidden[self.centre] = own.light[0], own.hidden[0]
        return replace(self.samples, light=light, hidden=hidden), float(skew), spot

    def _together(self, keep: np.ndarray, how: Finish, rotated: tuple[Samples, float, Footprint] | None) -> np.ndarray:
        """All causes taken away: many samples of the right side and surface, hidden faces masked, nothing stored."""
        n = self.job.samples
        times = max(1, min(MORE_SAMPLES, MOST_SAMPLES // n))
        own = self.owned.only(np.arange(len(self.owned.texel)) == self.centre)
        again = samples_of(self.scene, replace(self.job, footprint=own, samples=n * times, everywhere=True))
        light, hidden = np.repeat(self.samples.light, times, axis=1), np.repeat(self.samples.hidden, times, axis=1)
        counts = np.repeat(keep, times, axis=1)
        light[self.centre], hidden[self.centre] = again.light[0], again.hidden[0]
        counts[self.centre] = same_side(self, again, keep[self.centre])
        if rotated is not None and keep[self.centre].all():
            light[self.centre] = np.tile(rotated[0].light[self.centre], (times, 1))
            hidden[self.centre] = np.tile(rotated[0].hidden[self.centre], times)
            counts[self.centre] = True
        return self.value(keep=counts, how=how, samples=replace(self.samples, light=light, hidden=hidden), noise_of=n * times)

    def _reference(self, keep: np.ndarray, spot: Footprint | None) -> float:
        """Luminance (lux) of the surface that was kept of the texel, of what can be seen of it: many samples, another seed, no page,
        nothing smoothed or stored. spot: its middle alone, on a skewed chart."""
        kept = keep[self.centre]
        own = self.owned.only(np.arange(len(self.owned.texel)) == self.centre)
        whole = spot is None or not kept.all()
        n = max(REFERENCE_SAMPLES, self.bake.samples)
        job = replace(self.job, footprint=own if spot is None or whole else spot, samples=n, everywhere=True)
        got = samples_of(self.scene, replace(job, seed=self.job.seed ^ 0x5DEECE66D))
        mine = same_side(self, got, kept) if whole else np.ones(n, bool)
        counted = next(c for c in (mine & ~got.hidden[0], mine, np.ones(n, bool)) if c.any())
        return float(luminance(got.light[0][counted].mean(axis=0)))

    def _facts(self, stored: bool) -> dict[str, Any]:
        k = self.centre
        column, row = int(self.owned.texel[k] % self.edge), int(self.owned.texel[k] // self.edge)
        owner = self.geometry.owner[self.triangles[self.owned.triangle[self.owned.first[k]]]]
        middle = self.samples.place[k].mean(axis=0)
        return {
            "stored": stored,
            "owned": (column, row) == self.texel,
            "drawable": self.geometry.drawables[owner].name,
            "place_m": [round(float(v), 4) for v in middle],
            "texel_mm": [round(float(v) * 1000, 3) for v in self.texel_m()],
            "samples": self.bake.samples,
            "filter": self.bake.filter,
        }

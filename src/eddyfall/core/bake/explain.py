"""Texel provenance: why a lightmap texel is as it is.

Each possible cause is taken away by itself and the texel made again; what that changes is the cause's effect. All causes taken away
together, and what is then still missing to an independent reference, stand beside. Nothing is normalised: causes overlap.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from eddyfall.core.bake.finish import Finish, Raw, finished
from eddyfall.core.bake.footprint import Footprint, footprint
from eddyfall.core.bake.gather import Job, Samples, gather, samples_of
from eddyfall.core.bake.light_scene import LitScene, light_scene
from eddyfall.core.bake.run import job_of, receiver_footprint
from eddyfall.core.bake.sides import blocked, lift_of, sides
from eddyfall.core.bake.texel_sheets import sheets_in_texel
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.lightmap_store import as_target_stores, stored_map
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry, pack
from eddyfall.core.scene.receivers import Receiver, receiver_named, uv_of
from eddyfall.core.scene.setup.bake import Bake
from eddyfall.core.shade.lightmap_codes import to_codes
from eddyfall.core.shade.srgb import luminance
from eddyfall.core.uv.charts import Page, measure_charts
from eddyfall.core.uv.overlap import measure_overlap

WINDOW = 7
EFFECT_SAMPLES = 4  # causes are taken away on this many times the samples of the bake, so that its noise does not hide them
MORE_SAMPLES = 16
MOST_SAMPLES = 8192
REFERENCE_SAMPLES = 4096
TOLERANCE = 0.03  # a texel is healthy within this share of its value, and three standard errors
MOST_NOISE = 0.25  # of its value: where noise is larger, nothing can be called healthy

TITLES = {
    "bake.leak": "Mixed sides at an occluder",
    "bake.hidden-faces": "Hidden face bleeds in",
    "uv.overlap": "Another surface writes this texel",
    "bake.denoise-lines": "Denoiser reaches across a gap",
    "uv.skew": "Skewed edge steps",
    "bake.banding": "Bit depth",
    "bake.stale": "Stale: baked from something else",
    "bake.uncovered": "Outside every bake focus region",
    "noise.samples": "Too few samples",
}


@dataclass(frozen=True)
class Effect:
    """One cause. without: luminance (lux) of the texel with this cause alone taken away; effect: value - without; share: effect over
    the texel's whole deviation from the reference; facts by name."""

    code: str
    title: str
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
    bake = bake or build.setup.bake
    receiver = receiver_named(build, geometry, asset)
    return _Explainer(build, geometry, receiver, light_set, bake, texel).run()


class _Explainer:
    def __init__(
        self, build: Build, geometry: Geometry, receiver: Receiver, light_set: str | None, bake: Bake, texel: tuple[int, int]
    ) -> None:
        edge = receiver.resolution
        if not (0 <= texel[0] < edge and 0 <= texel[1] < edge):
            raise RequestError(f"texel {texel[0]},{texel[1]} does not lie in the {edge} x {edge} lightmap of {receiver.name}")
        self.build, self.geometry, self.receiver, self.light_set, self.bake, self.texel = (
            build,
            geometry,
            receiver,
            light_set,
            bake,
            texel,
        )
        self.edge = edge
        whole, self.triangles = receiver_footprint(geometry, receiver)
        column, row = whole.texel % edge, whole.texel // edge
        near = (np.abs(column - texel[0]) <= WINDOW) & (np.abs(row - texel[1]) <= WINDOW)
        self.owned = whole.only(near)
        if not len(self.owned.texel):
            raise RequestError(f"no chart of {receiver.name} lies within {WINDOW} texels of {texel[0]},{texel[1]}")
        corners = geometry.triangles[self.triangles]
        uv = receiver.page_uv(uv_of(geometry, receiver.uv_set)[corners])
        self.page: Page = measure_charts(uv, geometry.positions[corners].astype(np.float64), edge)
        self.collided = measure_overlap(uv, np.ones(len(uv)), edge, as_is=receiver.wraps).collided
        self.scene: LitScene = light_scene(build, geometry, light_set)
        times = max(1, min(EFFECT_SAMPLES, MOST_SAMPLES // bake.samples))
        self.job: Job = job_of(receiver, self.owned, self.triangles, bake, samples=bake.samples * times)
        self.samples: Samples = samples_of(self.scene, self.job)
        self.baked = np.broadcast_to(np.arange(bake.samples * times) < bake.samples, self.samples.hidden.shape)
        self.sheets: list[tuple[np.ndarray, np.ndarray]] = []  # by texel: its triangles and the sheet of each
        self.sheet_of_sample = self._sheets_of_samples()
        self.sheet = self._own_sheets()
        self.centre = self._centre()

    def _centre(self) -> int:
        """Index among the owned texels of the one asked about, or of the nearest one if no chart owns it."""
        column, row = self.owned.texel % self.edge, self.owned.texel // self.edge
        return int(np.argmin((column - self.texel[0]) ** 2 + (row - self.texel[1]) ** 2))

    def _sheets_of_samples(self) -> np.ndarray:
        """(m, n) sheet of each sample, by the place it started at: the chart, or a fold of it that lies over itself."""
        m, n = self.samples.hidden.shape
        sheet = np.zeros((m, n), np.int64)
        corners = self.geometry.positions[self.geometry.triangles[self.triangles]].astype(np.float64)
        for k in range(m):
            parts = slice(self.owned.first[k], self.owned.first[k + 1])
            candidates = np.unique(self.owned.triangle[parts])
            numbers = sheets_in_texel(
                candidates,
                self.page.chart,
                self.collided,
                self.owned.triangle[parts],
                self.owned.uv[parts],
                len(self.page.charts),
            )
            self.sheets.append((candidates, numbers))
            if len(np.unique(numbers)) == 1:
                sheet[k] = numbers[0]
                continue
            distance = np.stack([_outside(self.samples.place[k], corners[t]) for t in candidates])
            sheet[k] = numbers[distance.argmin(axis=0)]
        return sheet

    def _own_sheets(self) -> np.ndarray:
        """(m,) the sheet each texel belongs to: the one with most of its samples, the first of equals."""
        return np.array([np.bincount(row).argmax() for row in self.sheet_of_sample])

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
        return np.asarray(finished(raw, how or Finish.of(self.bake))[self.texel[1], self.texel[0]], np.float64)

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
        sides, side_facts = self._sides()
        sheet = self.sheet_of_sample == self.sheet[:, None]
        more = self._more()
        rotated = self._aligned()
        base = Finish.of(self.bake)
        best = replace(base, hidden="mask", denoise="within_charts" if base.denoise == "across_gaps" else base.denoise)
        trials: list[tuple[str, Callable[[], np.ndarray], dict[str, Any]]] = [
            ("bake.leak", lambda: self.value(keep=sides), side_facts),
            ("bake.hidden-faces", lambda: self.value(how=replace(base, hidden="mask")), self._hidden_facts()),
            ("uv.overlap", lambda: self.value(keep=sheet), self._overlap_facts()),
            ("bake.denoise-lines", lambda: self.value(how=replace(base, denoise=best.denoise)), {}),
            ("noise.samples", lambda: self.value(samples=more), {"samples": self.bake.samples}),
        ]
        if rotated is not None:
            aligned, skew = rotated
            trials.append(("uv.skew", lambda: self.value(samples=aligned), {"skew_deg": skew, "step_texels": self._step(skew)}))
        if len(self.scene.focus):
            everywhere = samples_of(self.scene, replace(self.job, everywhere=True))
            trials.append(("bake.uncovered", lambda: self.value(samples=everywhere), {}))

        def y(rgb: np.ndarray) -> float:
            return float(luminance(np.asarray(rgb, np.float64)))

        here, mean = y(fresh), y(expected)
        effects = [(code, (here if code == "noise.samples" else mean) - y(make()), facts) for code, make, facts in trials]
        # What is stored differs from the fresh texel by its codes, and by being out of date.
        codes = self._codes(fresh)
        effects.append(("bake.banding", (y(codes) - here) + (value - y(before_target)), {"encoding": self.bake.encoding}))
        effects.append(("bake.stale", y(before_target) - y(codes if found is not None else fresh), {}))
        together = self._together(sides & sheet, best, rotated)
        reference = self._reference(sides & sheet)
        deviation = value - reference
        counted = luminance(self.samples.light[self.centre][(sides & sheet)[self.centre]])  # sides that differ are no noise
        noise = float(np.sqrt(counted.var() / self.bake.samples)) if len(counted) else 0.0
        largest = max(abs(reference), abs(value))
        tolerance = TOLERANCE * largest + min(3 * noise, MOST_NOISE * largest)
        seen_at = TOLERANCE * largest + min(3 * noise * math.sqrt(self.bake.samples / self.job.samples), MOST_NOISE * largest)
        scale = deviation if abs(deviation) > 1e-12 else max(abs(value), 1e-12)
        listed = tuple(
            Effect(code, TITLES[code], value - effect, effect, effect / scale, facts)
            for code, effect, facts in sorted(effects, key=lambda e: -abs(e[1]))
        )
        strongest = max((abs(e.effect) for e in listed if e.code != "noise.samples"), default=0.0)
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

    def _sides(self) -> tuple[np.ndarray, dict[str, Any]]:
        """((m, n) bool: samples on the side that has most of their texel; facts of the texel asked about)."""
        m = len(self.samples.hidden)
        keep = np.ones(self.samples.hidden.shape, bool)
        facts: dict[str, Any] = {}
        size = self._texel_m().max()
        for k in range(m):
            mine = np.flatnonzero((self.sheet_of_sample[k] == self.sheet[k]) & ~self.samples.hidden[k])
            if len(mine) > 1:
                keep[k, mine] = sides(self.scene, self.samples.place[k][mine], self.samples.facing[k][mine], size) == 0
        mixed = ~keep[self.centre] & (self.sheet_of_sample[self.centre] == self.sheet[self.centre])
        if mixed.any():
            facts = self._leak(keep[self.centre], mixed)
        return keep, facts

    def _leak(self, mine: np.ndarray, other: np.ndarray) -> dict[str, Any]:
        """How far light of the other side reaches: metres from the occluder to the texel's far border, and to the next texel's centre."""
        uv = self._sample_uv()
        apart = uv[mine].mean(axis=0) - uv[other].mean(axis=0)
        axis = int(np.argmax(np.abs(apart)))
        border = self._border(mine, other, axis)
        texel = self.texel[axis]
        free = (texel + 1 - border) if apart[axis] > 0 else (border - texel)
        texel_m = float(self._texel_m()[axis])
        return {
            "reach_nearest_mm": free * texel_m * 1000,
            "reach_linear_mm": (free + 0.5) * texel_m * 1000,
            "share_of_other_side": float(other.sum() / len(other)),
            "border_texel": border,
            "axis": "uv"[axis],
            "occluder": self._occluder(mine, other),
        }

    def _border(self, mine: np.ndarray, other: np.ndarray, axis: int) -> float:
        """Where the occluder crosses the texel along an axis, in texels: bisected between the closest samples of both sides."""
        uv = self._sample_uv()
        a, b = np.flatnonzero(mine), np.flatnonzero(other)
        gaps = np.abs(uv[a][:, None, axis] - uv[b][None, :, axis]) + 0.1 * np.abs(
            uv[a][:, None, 1 - axis] - uv[b][None, :, 1 - axis]
        )
        i, j = np.unravel_index(int(gaps.argmin()), gaps.shape)
        k = self.centre
        lift = lift_of(self.scene, self._texel_m().max())
        p, q = (self.samples.place[k][s] + self.samples.facing[k][s] * lift for s in (a[i], b[j]))
        d = q - p
        length = float(np.linalg.norm(d))
        hit = self.scene.embree.run(
            p[None].astype(np.float32), (d / length)[None].astype(np.float32), query="INTERSECT", output=True
        )  # fmt: skip
        share = min(float(hit["tfar"][0]) / length, 1.0) if hit["primID"][0] >= 0 else 0.5
        return float(uv[a[i], axis] + share * (uv[b[j], axis] - uv[a[i], axis]))

    def _occluder(self, mine: np.ndarray, other: np.ndarray) -> str:
        k = self.centre
        lift = lift_of(self.scene, self._texel_m().max())
        p, q = (self.samples.place[k][np.flatnonzero(s)[0]] + self.samples.facing[k][0] * lift for s in (mine, other))
        d = q - p
        length = max(float(np.linalg.norm(d)), 1e-12)
        hit = self.scene.embree.run(p[None].astype(np.float32), (d / length)[None].astype(np.float32), query="INTERSECT")
        return self.geometry.drawables[self.geometry.owner[self.scene.prim[hit[0]]]].name if hit[0] >= 0 else ""

    def _sample_uv(self) -> np.ndarray:
        """(n, 2) page position in texels of the samples of the texel asked about."""
        k = self.centre
        part = int(self.owned.first[k] + np.argmax(self.owned.area[self.owned.first[k] : self.owned.first[k + 1]]))
        world = int(self.triangles[self.owned.triangle[part]])
        corners = self.geometry.triangles[world]
        p = self.geometry.positions[corners].astype(np.float64)
        uv = self.receiver.page_uv(uv_of(self.geometry, self.receiver.uv_set)[corners]) * self.edge
        basis = np.stack([p[1] - p[0], p[2] - p[0]], axis=1)
        weights, *_ = np.linalg.lstsq(basis, (self.samples.place[k] - p[0]).T, rcond=None)
        flat = uv[0] + weights.T @ np.stack([uv[1] - uv[0], uv[2] - uv[0]])
        if self.receiver.wraps:
            flat = flat % self.edge
        return np.asarray(flat)

    def _texel_m(self) -> np.ndarray:
        """(2,) metres a texel spans along u and v, on the largest triangle of the texel asked about."""
        k = int(
            np.argmin(
                np.abs(self.owned.texel % self.edge - self.texel[0]) + np.abs(self.owned.texel // self.edge - self.texel[1])
            )
        )
        part = int(self.owned.first[k] + np.argmax(self.owned.area[self.owned.first[k] : self.owned.first[k + 1]]))
        corners = self.geometry.triangles[int(self.triangles[self.owned.triangle[part]])]
        p = self.geometry.positions[corners].astype(np.float64)
        uv = self.receiver.page_uv(uv_of(self.geometry, self.receiver.uv_set)[corners]) * self.edge
        system = np.stack([uv[1] - uv[0], uv[2] - uv[0]])
        if abs(np.linalg.det(system)) < 1e-12:
            return np.full(2, 1e-3)
        along = np.linalg.solve(system, np.stack([p[1] - p[0], p[2] - p[0]]))
        return np.asarray(np.linalg.norm(along, axis=1))

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

    def _aligned(self) -> tuple[Samples, float] | None:
        """(samples with the texel asked about turned along its chart's edges, the angle in degrees), None if the chart is not skewed."""
        skew = self.page.charts[int(self.sheet[self.centre]) % len(self.page.charts)].skew_deg
        if skew is None or abs(skew) < 0.5 or self.receiver.wraps:
            return None
        footprint_turned = self._turned(skew)
        if footprint_turned is None:
            return None
        own = samples_of(self.scene, replace(self.job, footprint=footprint_turned))
        light, hidden = self.samples.light.copy(), self.samples.hidden.copy()
        light[self.centre], hidden[self.centre] = own.light[0], own.hidden[0]
        return replace(self.samples, light=light, hidden=hidden), float(skew)

    def _turned(self, skew: float) -> Footprint | None:
        """The texel asked about as a square along its chart's edges: the parts of triangles inside that."""
        column, row = int(self.owned.texel[self.centre] % self.edge), int(self.owned.texel[self.centre] // self.edge)
        middle = np.array([column + 0.5, row + 0.5])
        turn = math.radians(skew)
        back = np.array(
            [[math.cos(turn), -math.sin(turn)], [math.sin(turn), math.cos(turn)]]
        )  # rows (x, y) times this turn by -skew
        corners = self.geometry.triangles[self.triangles]
        uv = self.receiver.page_uv(uv_of(self.geometry, self.receiver.uv_set)[corners]) * self.edge
        turned = (uv - middle) @ back + middle
        near = (np.abs(turned - middle).min(axis=(1, 2)) >= 0) & (turned.min(axis=1) <= middle + 1).all(axis=1)
        near &= (turned.max(axis=1) >= middle - 1).all(axis=1)
        ids = np.flatnonzero(near)
        # Shifted so that the texel is the first of a small page: clipping a whole page for one texel would waste time.
        local = footprint(turned[ids] - np.array([column, row]), 1)
        if not len(local.texel):
            return None
        parts = (local.uv + np.array([column, row]) - middle) @ back.T + middle
        return Footprint(self.edge, np.array([row * self.edge + column]), local.first, parts, ids[local.triangle], local.area)

    def _together(self, keep: np.ndarray, how: Finish, rotated: tuple[Samples, float] | None) -> np.ndarray:
        """All causes taken away: many samples of the right side and surface, hidden faces masked, nothing stored."""
        n = self.job.samples
        times = max(1, min(MORE_SAMPLES, MOST_SAMPLES // n))
        own = self.owned.only(np.arange(len(self.owned.texel)) == self.centre)
        again = samples_of(self.scene, replace(self.job, footprint=own, samples=n * times, everywhere=True))
        light, hidden = np.repeat(self.samples.light, times, axis=1), np.repeat(self.samples.hidden, times, axis=1)
        counts = np.repeat(keep, times, axis=1)
        light[self.centre], hidden[self.centre] = again.light[0], again.hidden[0]
        counts[self.centre] = self._same_side(again, keep[self.centre])
        if rotated is not None and keep[self.centre].all():
            light[self.centre] = np.tile(rotated[0].light[self.centre], (times, 1))
            hidden[self.centre] = np.tile(rotated[0].hidden[self.centre], times)
            counts[self.centre] = True
        return self.value(keep=counts, how=how, samples=replace(self.samples, light=light, hidden=hidden), noise_of=n * times)

    def _same_side(self, again: Samples, kept: np.ndarray) -> np.ndarray:
        """(n,) bool: samples of the texel asked about, traced again, that lie on the side and surface kept before."""
        places, facing = self.samples.place[self.centre], self.samples.facing[self.centre]
        reference = int(np.flatnonzero(kept)[0]) if kept.any() else 0
        if kept.all():
            return np.ones(again.hidden.shape[1], bool)
        # On the side of those kept if one of a few of them is seen.
        lift = lift_of(self.scene, self._texel_m().max())
        side = np.zeros(again.hidden.shape[1], bool)
        chosen = np.flatnonzero(kept)
        for known in chosen[np.unique(np.linspace(0, len(chosen) - 1, 8).astype(int))]:
            start = np.repeat((places[known] + facing[known] * lift)[None], len(side), axis=0)
            side |= ~blocked(self.scene, start, again.place[0] + again.facing[0] * lift)
        charts = self.sheet_of_sample[self.centre]
        if (charts == charts[reference]).all():
            return side
        nearest = ((again.place[0][:, None] - places[None]) ** 2).sum(axis=2).argmin(axis=1)
        return np.asarray(side & (charts[nearest] == charts[reference]))

    def _reference(self, keep: np.ndarray) -> float:
        """Luminance (lux) at the surface point in the middle of what was kept: many samples, another seed, no page at all."""
        k = self.centre
        good = keep[k] & ~self.samples.hidden[k]
        if not good.any():
            good = keep[k] if keep[k].any() else np.ones_like(keep[k])
        places = self.samples.place[k][good]
        middle = places.mean(axis=0)
        s = int(np.flatnonzero(good)[((places - middle) ** 2).sum(axis=1).argmin()])
        part = self._part_at(k, self.samples.place[k][s])
        spot = Footprint(
            self.edge, self.owned.texel[k : k + 1], np.array([0, 1]), part[1][None], np.array([part[0]]), np.array([1e-9])
        )  # fmt: skip
        n = max(REFERENCE_SAMPLES, self.bake.samples)
        job = replace(self.job, footprint=spot, samples=n, seed=self.job.seed ^ 0x5DEECE66D, everywhere=True)
        return float(luminance(gather(self.scene, job).mean[0]))

    def _part_at(self, k: int, place: np.ndarray) -> tuple[int, np.ndarray]:
        """(input triangle, a tiny UV triangle (3, 2) in texels about a world place on it)."""
        candidates = np.unique(self.owned.triangle[self.owned.first[k] : self.owned.first[k + 1]])
        world = self.geometry.positions[self.geometry.triangles[self.triangles[candidates]]].astype(np.float64)
        t = int(candidates[np.argmin([_outside(place[None], tri)[0] for tri in world])])
        corners = self.geometry.triangles[self.triangles[t]]
        p = self.geometry.positions[corners].astype(np.float64)
        uv = self.receiver.page_uv(uv_of(self.geometry, self.receiver.uv_set)[corners]) * self.edge
        weights, *_ = np.linalg.lstsq(np.stack([p[1] - p[0], p[2] - p[0]], axis=1), place - p[0], rcond=None)
        at = uv[0] + weights[0] * (uv[1] - uv[0]) + weights[1] * (uv[2] - uv[0])
        return t, at + np.array([[0, 0], [1e-4, 0], [0, 1e-4]]) - 3e-5

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
            "texel_mm": [round(float(v) * 1000, 3) for v in self._texel_m()],
            "samples": self.bake.samples,
            "filter": self.bake.filter,
        }


def _outside(places: np.ndarray, triangle: np.ndarray) -> np.ndarray:
    """(n,) how far places lie off a triangle: 0 on it; plane distance plus how far barycentric weights leave 0..1, in metres."""
    basis = np.stack([triangle[1] - triangle[0], triangle[2] - triangle[0]], axis=1)
    weights, *_ = np.linalg.lstsq(basis, (places - triangle[0]).T, rcond=None)
    off = np.linalg.norm(places - triangle[0] - (basis @ weights).T, axis=1)
    size = float(np.linalg.norm(basis, axis=0).max())
    under = np.minimum(np.minimum(weights[0], weights[1]), 1 - weights[0] - weights[1])
    return np.asarray(off + np.maximum(-under, 0) * size)

"""What is worth a lightmap: surfaces by area x contrast of light, for each triangle and texel they cost; and what the rest would cost."""

import time
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.bake.light.gather import gather
from eddyfall.core.bake.light.jobs import job_of, receiver_footprint
from eddyfall.core.bake.light.light_scene import light_scene
from eddyfall.core.bake.light.probes import probe_job
from eddyfall.core.bake.maps.run import light_sets
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.receivers import receivers, triangles_of
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.shade.lightmap_codes import BYTES_PER_TEXEL
from eddyfall.core.shade.srgb import luminance
from eddyfall.core.uv.atlas import new_atlas

PROBES = 64
PROBE_SAMPLES = 16
TRIANGLE_TEXELS = (
    100.0  # a triangle costs about as much as this many texels: unwrap, seams, split vertices (common practice, no source)
)
SKIP_BELOW = 0.02


@dataclass(frozen=True)
class Candidate:
    """One node that could have a lightmap. contrast: spread of its light over the mean (0: flat light needs no map); value: area x
    contrast over cost, 1 for the best; noise: relative error at the set samples; why: why it is skipped, empty if it is not."""

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


@dataclass(frozen=True)
class Shortlist:
    """Candidates, best first; measured rates on this machine: triangles/s of unwrapping, texels/s of baking at the set samples."""

    candidates: tuple[Candidate, ...]
    triangles_per_s: float
    texels_per_s: float

    @property
    def chosen(self) -> list[Candidate]:
        return [c for c in self.candidates if not c.why]

    def bytes_on(self, build: Build, target: str | None) -> int:
        """Memory of all chosen maps on a target, in all light sets."""
        encoding = resolve(build.setup, target)[Bake].encoding
        return sum(c.resolution**2 * BYTES_PER_TEXEL[encoding] for c in self.chosen) * len(light_sets(build))


def shortlist(
    build: Build, geometry: Geometry, light_set: str | None = None, *, triangles_per_s: float | None = None
) -> Shortlist:
    """Judge every drawn node by light gathered at a few probes on it. triangles_per_s: a known unwrap rate instead of a measured one."""
    bake = build.setup[Bake]
    scene = light_scene(build, geometry, light_set)
    mapped = {d for r in receivers(build, geometry) for d in r.drawables}
    rate = triangles_per_s or unwrap_rate()
    by_node: dict[str, list[int]] = {}
    for i, d in enumerate(geometry.things):
        if np.isin(i, geometry.owner[scene.prim]):
            by_node.setdefault(d.node, []).append(i)
    rows: list[dict[str, Any]] = []
    traced = spent = 0.0
    warm = False
    for node, drawables in by_node.items():
        triangles = triangles_of(geometry, tuple(drawables))
        job, area = probe_job(geometry, triangles, node, PROBES, PROBE_SAMPLES, bake.bounces)
        if not warm:  # the first call loads kernels and builds the ray scene
            gather(scene, job)
            warm = True
        begun = time.perf_counter()
        got = gather(scene, job)
        spent += time.perf_counter() - begun
        traced += len(got.mean) * PROBE_SAMPLES
        y = luminance(got.mean)
        mean = float(y.mean()) if len(y) else 0.0
        own_noise = float(np.mean(got.variance / PROBE_SAMPLES))
        spread = float(np.sqrt(max(float(y.var()) - own_noise, 0.0))) if len(y) else 0.0
        error = float(np.sqrt(np.mean(got.variance) / bake.samples)) / mean if mean > 0 else 0.0
        size = max((build.setup.nodes[node].lightmap_size or 0) if node in build.setup.nodes else 0, 0) or bake.resolution
        cost = len(triangles) * TRIANGLE_TEXELS + size * size
        rows.append(
            {
                "node": node,
                "area_m2": float(area),
                "triangles": len(triangles),
                "contrast": spread / mean if mean > 0 else 0.0,
                "score": float(area) * (spread / mean if mean > 0 else 0.0) / cost,
                "resolution": size,
                "noise": error,
                "mapped": all(d in mapped for d in drawables),
            }
        )
    texels_per_s = traced / max(spent, 1e-9) / bake.samples
    best = max((r["score"] for r in rows), default=0.0) or 1.0
    result = []
    for r in sorted(rows, key=lambda r: (-r["score"], r["node"])):
        value = r.pop("score") / best
        size = r["resolution"]
        why = ""
        if r["contrast"] < 0.02:
            why = "its light is even: one value would do"
        elif value < SKIP_BELOW:
            by_triangles = r["triangles"] * TRIANGLE_TEXELS > size * size
            price = f"{r['triangles']} triangles" if by_triangles else f"{size} x {size} texels"
            why = f"too little for its cost: a contrast of {r['contrast']:.2f} on {r['area_m2']:.3g} m² for {price}"
        result.append(
            Candidate(
                value=value,
                bytes=size * size * BYTES_PER_TEXEL[bake.encoding],
                unwrap_s=r["triangles"] / rate,
                bake_s=size * size / texels_per_s,
                why=why,
                **r,
            )
        )
    return Shortlist(tuple(result), rate, texels_per_s)


def unwrap_rate(triangles: int = 4_000) -> float:
    """Triangles/s that unwrapping reaches on this machine, measured on a bumpy sheet."""
    n = int(np.sqrt(triangles / 2))
    x, y = np.meshgrid(np.arange(n + 1), np.arange(n + 1))
    z = np.sin(x * 0.2) * np.cos(y * 0.15) * 0.6
    positions = np.stack([x, y, z], axis=-1).reshape(-1, 3).astype(np.float32)
    a = (np.arange(n)[:, None] * (n + 1) + np.arange(n)[None]).reshape(-1)
    faces = np.concatenate([np.stack([a, a + 1, a + n + 2], 1), np.stack([a, a + n + 2, a + n + 1], 1)]).astype(np.uint32)
    begun = time.perf_counter()
    with new_atlas() as atlas:
        atlas.add_mesh(positions, faces)
        atlas.generate()
        took_s = time.perf_counter() - begun
    return len(faces) / took_s


def noise_forecast(
    build: Build, geometry: Geometry, receiver_name: str, light_set: str | None, samples: list[int]
) -> dict[int, float]:
    """Predicted relative error of a receiver's map by number of samples: measured on a probe set of its texels, told on by 1 / sqrt(N)."""
    receiver = next(r for r in receivers(build, geometry) if r.name == receiver_name)
    scene = light_scene(build, geometry, light_set)
    owned, triangles = receiver_footprint(geometry, receiver)
    step = max(1, len(owned.texel) // 256)
    keep = np.zeros(len(owned.texel), bool)
    keep[::step] = True
    got = gather(scene, job_of(receiver, owned.only(keep), triangles, build.setup[Bake], samples=64))
    mean = float(luminance(got.mean).mean())
    one = float(np.sqrt(got.variance.mean()))
    return {n: one / np.sqrt(n) / mean if mean > 0 else 0.0 for n in samples}

"""From captured probes to what passes read: decoded, blurred level by level, with the distances that tell what each sees."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.errors import SetupError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import Image
from eddyfall.core.scene.receivers import NO_SET
from eddyfall.core.scene.setup.tables import CapturedProbe
from eddyfall.core.shade.lightmap_codes import from_codes
from eddyfall.core.shade.probes import NO_PROBES, Probes, blurred_levels, seen_depths


@dataclass(frozen=True)
class Captured:
    """A probe's map: radiance (edge, edge, 3) nits and distance (edge, edge) m, float32."""

    record: CapturedProbe
    radiance: np.ndarray
    distance: np.ndarray


@dataclass(frozen=True)
class ProbeStore:
    """Probes that are on and captured, by name in the order of their numbers, and what kernels read of them."""

    names: tuple[str, ...]
    probes: Probes


def captured(build: Build, name: str, light_set: str | None) -> Captured | None:
    """What a probe holds for a light set; None if nothing. SetupError if its picture is no such map."""
    record = build.setup.probe_maps.get(name, {}).get(light_set or NO_SET)
    if record is None or record.image not in build.scene.image_keys:
        return None
    return decoded(build.scene.images[build.scene.image_keys.index(record.image)], record, name)


def decoded(image: Image, record: CapturedProbe, name: str) -> Captured:
    """A probe's map from its picture. SetupError for one that is torn: no square, no power of two, not of 16 bits, or with no numbers."""
    wide = image.wide
    where = f"probe_maps.{name}"
    if wide is None or wide.shape[2] != 4:
        raise SetupError(f"picture {record.image!r} is no map of a probe: it has no four channels of 16 bits", where)
    height, width = wide.shape[:2]
    if height != width or width & (width - 1) or not 16 <= width <= 512:
        raise SetupError(
            f"picture {record.image!r} is no map of a probe: {width} x {height} is no square of 16 to 512 texels", where
        )
    values = from_codes(wide, "half", 1.0)
    if not np.isfinite(values).all() or (values < 0).any():
        row, column = (int(k[0]) for k in np.nonzero(~np.isfinite(values).all(axis=2) | (values < 0).any(axis=2)))
        raise SetupError(f"picture {record.image!r} is torn: texel {column}, {row} holds no light", where)
    return Captured(record, values[..., :3], values[..., 3])


def probe_store(build: Build, light_set: str | None) -> ProbeStore:
    """All probes of a build that are on and captured in a light set."""
    found = [(name, probe, captured(build, name, light_set)) for name, probe in build.setup.probes.items() if probe.on]
    there = [(name, probe, of) for name, probe, of in found if of is not None]
    if not there:
        return ProbeStore((), NO_PROBES)
    texels: list[np.ndarray] = []
    levels: list[tuple[int, int]] = []
    maps: list[tuple[int, int]] = []
    for _, _, of in there:
        chain = blurred_levels(of.radiance)
        maps.append((len(levels), len(chain)))
        for level in chain:
            levels.append((sum(len(t) for t in texels), len(level)))
            texels.append(level.reshape(-1, 3))

    def column(name: str, kind: Any) -> np.ndarray:
        return freeze(np.array([getattr(probe, name) for _, probe, _ in there], kind))

    probes = Probes(
        texels=freeze(np.concatenate(texels)), levels=freeze(np.array(levels, np.int64)), maps=freeze(np.array(maps, np.int64)),
        place=column("place_m", np.float64), low=column("low_m", np.float64), high=column("high_m", np.float64),
        blend=column("blend_m", np.float64), boxed=column("boxed", np.uint8), sees=column("sees", np.uint8),
        depths=freeze(np.stack([seen_depths(of.distance) for _, _, of in there])),
    )  # fmt: skip
    return ProbeStore(tuple(name for name, _, _ in there), probes)

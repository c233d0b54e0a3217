"""From stored lightmaps to what pass 6 reads: decoded, at the target's bit depth, one map a receiver."""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.model import Image
from eddyfall.core.scene.receivers import NO_SET, Receiver, receivers
from eddyfall.core.scene.setup.sections.bake import Bake, Encoding
from eddyfall.core.scene.setup.tables import BakedMap
from eddyfall.core.shade.lightmap_codes import FINENESS, from_codes, stored
from eddyfall.core.shade.lightmaps import EMPTY, LightmapStore, mip_levels


@dataclass(frozen=True)
class StoredMap:
    """A receiver's lightmap as the build holds it: values (h, w, 3) float32 lux; over (h, w) numbers record.over from 1, 0: none."""

    record: BakedMap
    values: np.ndarray
    over: np.ndarray


class StoredRule(NamedTuple):
    """What of the bake settings bears on lightmaps that are there already; as in setup section `bake`."""

    uv_use: str
    unique_per: str
    resolution: int
    encoding: Encoding
    range_lux: float
    dither: bool
    mips: bool

    @classmethod
    def from_bake(cls, bake: Bake) -> "StoredRule":
        return cls(*(getattr(bake, name) for name in cls._fields))


def stored_map(build: Build, receiver: str, light_set: str | None) -> StoredMap | None:
    """The lightmap of a receiver in a light set; None if there is none, or its image is not there."""
    record = build.setup.lightmaps.get(receiver, {}).get(light_set or NO_SET)
    if record is None or record.image not in build.scene.image_keys:
        return None
    return decoded(build.scene.images[build.scene.image_keys.index(record.image)], record)


def decoded(image: Image, record: BakedMap) -> StoredMap:
    """A stored lightmap from its picture."""
    codes = codes_of(image, record.encoding)
    over = codes[..., 3].astype(np.uint16)
    full = 255 if record.encoding == "srgb8" else 65535
    return StoredMap(record, from_codes(codes[..., :3], record.encoding, record.scale_lux), np.where(over == full, 0, over))


def codes_of(image: Image, encoding: str) -> np.ndarray:
    """(h, w, 4) codes of an image: wide ones where the encoding needs 16 bits (8-bit pictures are widened)."""
    if encoding == "srgb8":
        return image.pixels
    return image.wide if image.wide is not None else image.pixels.astype(np.uint16) * 257


def as_target_stores(values: np.ndarray, record: BakedMap, bake: Bake | StoredRule) -> np.ndarray:
    """Values at the coarser of the record's encoding and the target's."""
    if FINENESS.index(bake.encoding) >= FINENESS.index(record.encoding):
        return values
    scale = bake.range_lux or (record.scale_lux if record.encoding != "half" else float(values.max()) or 1.0)
    return stored(values, bake.encoding, scale, bake.dither)


def mapped_receivers(build: Build, geometry: Geometry, bake: Bake | StoredRule, light_set: str | None) -> list[Receiver]:
    """Receivers that have a lightmap in this light set."""
    if not build.setup.lightmaps:
        return []
    keys = set(build.scene.image_keys)
    return [
        r
        for r in receivers(build, geometry, bake)
        if (record := build.setup.lightmaps.get(r.name, {}).get(light_set or NO_SET)) is not None and record.image in keys
    ]


def lightmap_store(build: Build, geometry: Geometry, bake: Bake | StoredRule, light_set: str | None) -> LightmapStore:
    """All lightmaps of a light set, as the frame reads them."""
    texels: list[np.ndarray] = []
    levels: list[tuple[int, int, int]] = []
    maps: list[tuple[int, int, int, int]] = []
    place: list[tuple[float, float, float]] = []
    of_drawable = np.full(len(geometry.drawables), -1, np.int32)
    offset = 0
    for receiver in mapped_receivers(build, geometry, bake, light_set):
        found = stored_map(build, receiver.name, light_set)
        if found is None:
            continue
        values = as_target_stores(found.values, found.record, bake)
        chain = mip_levels(values) if bake.mips else [values]
        of_drawable[list(receiver.drawables)] = len(maps)
        maps.append((len(levels), len(chain), receiver.uv_set, int(receiver.wraps)))
        low = (0.0, 0.0) if receiver.wraps else receiver.low
        place.append((*low, 1.0 if receiver.wraps else receiver.side))
        for level in chain:
            levels.append((offset, level.shape[1], level.shape[0]))
            texels.append(np.ascontiguousarray(level, np.float32).reshape(-1, 3))
            offset += level.shape[0] * level.shape[1]
    if not maps:
        return EMPTY._replace(of_drawable=of_drawable)
    return LightmapStore(
        freeze(np.concatenate(texels)),
        np.array(levels, np.int64),
        np.array(maps, np.int64),
        np.array(place, np.float64),
        of_drawable,
    )

"""A lightmap looked at under other settings than it was stored with: filter, denoiser, bit depth; as light, and as a picture."""

from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.bake.light.light_scene import light_scene
from eddyfall.core.bake.maps.finish import Finish, finished
from eddyfall.core.bake.maps.run import raw_of
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.lightmap_store import as_target_stores, stored_map
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.receivers import Receiver
from eddyfall.core.scene.setup.sections.bake import Bake, Encoding
from eddyfall.core.shade.lightmap_codes import stored
from eddyfall.core.shade.srgb import encode, luminance

LARGEST_EDGE = 4096


@dataclass(frozen=True)
class Look:
    """denoise, encoding: instead of what is stored, None: as it is; linear: magnified by bilinear weights; magnify: by a whole number."""

    denoise: str | None = None
    encoding: Encoding | None = None
    linear: bool = False
    magnify: int = 1


def look(build: Build, geometry: Geometry, receiver: Receiver, light_set: str | None, bake: Bake, how: Look) -> np.ndarray:
    """(h, w, 3) float32 lux of a receiver's lightmap. As stored and read by the target, unless `how` asks for another denoiser, for which
    its gathered light is finished anew. RequestError if there is no lightmap."""
    found = stored_map(build, receiver.name, light_set)
    if found is None:
        raise RequestError(f"{receiver.name} has no lightmap" + (f" for {light_set}" if light_set else "") + "; bake it first")
    values = found.values
    if how.denoise is not None:
        raw = raw_of(build, geometry, receiver, light_set, bake, lambda: light_scene(build, geometry, light_set))
        values = finished(raw, replace(Finish.from_bake(bake), denoise=how.denoise))
    if how.encoding is not None:
        scale = bake.range_lux or float(values.max()) or 1.0
        values = stored(values, how.encoding, scale, bake.dither)
    else:
        values = as_target_stores(values, found.record, bake)
    return magnified(values, min(max(how.magnify, 1), max(LARGEST_EDGE // values.shape[0], 1)), how.linear)


def magnified(values: np.ndarray, times: int, linear: bool) -> np.ndarray:
    """A map (h, w, 3) magnified as a frame would read it: nearest, or bilinear between texel centres, clamped at the edge."""
    if times == 1:
        return np.asarray(values, np.float32)
    if not linear:
        return np.repeat(np.repeat(values, times, axis=0), times, axis=1).astype(np.float32)
    return _along(_along(np.asarray(values, np.float32), times, 0), times, 1)


def _along(values: np.ndarray, times: int, axis: int) -> np.ndarray:
    n = values.shape[axis]
    at = (np.arange(n * times) + 0.5) / times - 0.5
    low = np.floor(at).astype(int)
    share = (at - low).astype(np.float32).reshape([-1 if k == axis else 1 for k in range(values.ndim)])
    a, b = (np.take(values, np.clip(i, 0, n - 1), axis=axis) for i in (low, low + 1))
    return np.asarray(a * (1 - share) + b * share)


def white_lux(values: np.ndarray) -> float:
    """The light that a picture of a map shows as white: what one texel in a hundred exceeds."""
    y = luminance(values)
    return float(np.percentile(y[y > 0], 99)) if (y > 0).any() else 1.0


def picture(values: np.ndarray, white: float) -> np.ndarray:
    """(h, w, 3) uint8 sRGB of light (h, w, 3), `white` lux as white."""
    return np.asarray(np.rint(encode(np.clip(values / max(white, 1e-12), 0, 1)) * 255), np.uint8)

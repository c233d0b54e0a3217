"""bake.banding: bit depth of the stored map that shows as steps in dim gradients."""

from collections.abc import Iterator

import numpy as np

from eddyfall.core.bake.banding import Bands, measure_bands
from eddyfall.core.bake.finish import Finish, Raw, finished
from eddyfall.core.defects.contract import Candidate, Cost, Evidence, Suspicion
from eddyfall.core.defects.lightmap_survey import Lightmaps, Seen, map_picture
from eddyfall.core.frame.lightmap_store import decoded
from eddyfall.core.scene.changes import set_resolved
from eddyfall.core.scene.model import Image
from eddyfall.core.scene.receivers import NO_SET, Receiver
from eddyfall.core.scene.setup.bake import Encoding
from eddyfall.core.scene.setup.tables import BakedMap
from eddyfall.core.shade.lightmap_codes import BYTES_PER_TEXEL


def banding(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    b = maps.bake
    found: list[tuple[Receiver, Bands, Encoding, np.ndarray]] = []
    for receiver in maps.baked:
        for light_set in maps.sets_with_map(receiver):
            record, scene = record_of(maps, receiver, light_set), maps.build.scene
            image = scene.images[scene.image_keys.index(record.image)]
            given = (maps.gathered(receiver, light_set), receiver.resolution, Finish.of(b), b.encoding, b.range_lux, b.dither)
            bands, coarse, smooth = maps.judged(bands_of, image, record, *given)
            if bands.width_texels > 1.0 and bands.share > 0.02:
                found.append((receiver, bands, coarse, smooth))
                break
    if not found:
        return
    mine = [r for r, *_ in found]
    worst, bands, coarse, smooth = max(found, key=lambda f: f[1].width_texels * f[1].step)
    resolved = maps.survey.resolved(maps.survey.viewpoints[0])
    texels = sum(r.resolution**2 for r in maps.baked) * len(maps.sets)
    extra = float((BYTES_PER_TEXEL["half"] - BYTES_PER_TEXEL[coarse]) * texels)
    reason = "8-bit steps show in dim gradients"
    dither = set_resolved(maps.build, resolved, {"bake.dither": True}, title="dither lightmaps", reason=reason)
    half = set_resolved(maps.build, resolved, {"bake.encoding": "half"}, title="store lightmaps as half floats", reason=reason)
    stored_again = ("all lightmaps are stored again",)
    picture = map_picture(smooth, np.zeros(smooth.shape[:2], bool)) if maps.survey.pictures else None
    evidence = (
        Evidence("width of the steps", bands.width_texels, "texels", 1.0, "wider steps show", picture),
        Evidence("height of a step", bands.step * 100, "%", 3.0, "Weber fraction, common practice"),
        Evidence("texels in such steps", bands.share * 100, "%", 2.0, f"of the chart of {worst.name}"),
        Evidence("codes that the map spans", bands.steps, "codes"),
    )
    yield Suspicion(
        "bake.banding",
        "setting",
        "bake.encoding",
        "dim light in visible steps: " + ", ".join(r.name for r in mine[:4]),
        maps.subjects(mine),
        bands.width_texels,
        1.0,
        evidence,
        maps.shown(mine, seen),
        {},
        (
            Candidate(half, "no step shows", (Cost("memory", extra, "bytes"),), stored_again),
            Candidate(
                dither,
                "steps dissolve into noise of one code",
                (Cost("memory", 0.0, "bytes"),),
                stored_again,
            ),
        ),
    )


def record_of(maps: Lightmaps, receiver: Receiver, light_set: str | None) -> BakedMap:
    """The record of a receiver's lightmap, which must be there."""
    return maps.build.setup.lightmaps[receiver.name][light_set or NO_SET]


def bands_of(
    image: Image, record: BakedMap, raw: Raw, resolution: int, how: Finish, encoding: Encoding, range_lux: float | None, dither: bool
) -> tuple[Bands, Encoding, np.ndarray]:  # fmt: skip
    """(bands of a map as the target stores it, that encoding, the map before it was rounded)."""
    values = decoded(image, record).values
    rounded = record.encoding == "srgb8"
    smooth = finished(raw, how) if rounded or values.shape[0] != resolution else values
    coarse: Encoding = "srgb8" if rounded else encoding
    largest = float(smooth.max()) or 1.0
    scale = range_lux or (record.scale_lux if record.encoding != "half" else largest)
    return measure_bands(smooth, raw.covered, coarse, scale, dither), coarse, smooth

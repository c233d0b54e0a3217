"""bake.banding: bit depth of the stored map that shows as steps in dim gradients."""

from collections.abc import Iterator
from functools import partial

import numpy as np

from eddyfall.core.bake.banding import Bands, measure_bands
from eddyfall.core.bake.finish import Finish, finished
from eddyfall.core.defects.contract import Candidate, Cost, Evidence, Suspicion
from eddyfall.core.defects.lightmap_survey import Lightmaps, Seen, map_picture
from eddyfall.core.frame.lightmap_store import stored_map
from eddyfall.core.scene.changes import set_resolved
from eddyfall.core.scene.receivers import Receiver
from eddyfall.core.scene.setup.bake import Encoding
from eddyfall.core.shade.lightmap_codes import BYTES_PER_TEXEL


def banding(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    b = maps.bake
    found: list[tuple[Receiver, Bands, Encoding, np.ndarray]] = []
    for receiver in maps.baked:
        for light_set in maps.sets_with_map(receiver):
            settings = (light_set, Finish.of(b), b.encoding, b.range_lux, b.dither)
            bands, coarse, smooth = maps.judged("bands", receiver, settings, partial(_bands, maps, receiver, light_set))
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


def _bands(maps: Lightmaps, receiver: Receiver, light_set: str | None) -> tuple[Bands, Encoding, np.ndarray]:
    """(bands of a map as the target stores it, that encoding, the map before it was rounded)."""
    found = stored_map(maps.build, receiver.name, light_set)
    assert found is not None
    raw = maps.raw(receiver, light_set)
    rounded = found.record.encoding == "srgb8"
    smooth = finished(raw, Finish.of(maps.bake)) if rounded or found.values.shape[0] != receiver.resolution else found.values
    coarse: Encoding = "srgb8" if rounded else maps.bake.encoding
    largest = float(smooth.max()) or 1.0
    scale = maps.bake.range_lux or (found.record.scale_lux if found.record.encoding != "half" else largest)
    return measure_bands(smooth, raw.covered, coarse, scale, maps.bake.dither), coarse, smooth

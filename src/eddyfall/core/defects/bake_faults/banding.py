"""bake.banding: bit depth of the stored map that shows as steps in dim gradients."""

from collections.abc import Iterator

import numpy as np

from eddyfall.core.bake.maps.finish import Finish, Raw, finished
from eddyfall.core.bake.questions.banding import Bands, measure_bands
from eddyfall.core.defects.contract import Candidate, Cost, Evidence, Suspicion
from eddyfall.core.defects.lightmap_survey import Lightmaps, Seen, map_picture
from eddyfall.core.frame.lightmap_store import decoded
from eddyfall.core.scene.changes import set_resolved
from eddyfall.core.scene.model import Image
from eddyfall.core.scene.receivers import NO_SET, Receiver
from eddyfall.core.scene.setup.sections.bake import Encoding
from eddyfall.core.scene.setup.tables import BakedMap
from eddyfall.core.shade.lightmap_codes import BYTES_PER_TEXEL


def banding(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    b = maps.bake
    found: list[tuple[Receiver, Bands, Encoding, np.ndarray]] = []
    for receiver in maps.baked:
        for light_set in maps.sets_with_map(receiver):
            record, scene = record_of(maps, receiver, light_set), maps.build.scene
            image = scene.images[scene.image_keys.index(record.image)]
            given = (
                maps.gathered(receiver, light_set),
                receiver.resolution,
                Finish.from_bake(b),
                b.encoding,
                b.range_lux,
                b.dither,
            )
            bands, coarse, smooth = maps.measured(bands_of, image, record, *given)
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
        Evidence(
            measure="width of the steps",
            value=bands.width_texels,
            unit="texels",
            limit=1.0,
            source="wider steps show",
            picture=picture,
        ),
        Evidence(
            measure="height of a step", value=bands.step * 100, unit="%", limit=3.0, source="Weber fraction, common practice"
        ),
        Evidence(
            measure="texels in such steps", value=bands.share * 100, unit="%", limit=2.0, source=f"of the chart of {worst.name}"
        ),
        Evidence(measure="codes that the map spans", value=bands.steps, unit="codes"),
    )
    yield Suspicion(
        code="bake.banding",
        cause_kind="setting",
        cause="bake.encoding",
        title="dim light in visible steps: " + ", ".join(r.name for r in mine[:4]),
        subjects=maps.subjects(mine),
        value=bands.width_texels,
        limit=1.0,
        evidence=evidence,
        pixels=maps.shown(mine, seen),
        regions={},
        candidates=(
            Candidate(change=half, predicts="no step shows", costs=(Cost("memory", extra, "bytes"),), side_effects=stored_again),
            Candidate(
                change=dither,
                predicts="steps dissolve into noise of one code",
                costs=(Cost("memory", 0.0, "bytes"),),
                side_effects=stored_again,
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

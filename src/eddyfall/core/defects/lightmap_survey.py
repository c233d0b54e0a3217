"""What the lightmap families look at, measured once a build and kept with the passes' results."""

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np

from eddyfall.core.bake.light.light_scene import LitScene, light_scene
from eddyfall.core.bake.maps.finish import Raw
from eddyfall.core.bake.maps.run import light_sets, raw_of
from eddyfall.core.bake.maps.stamps import Staleness, gather_stamp, scene_stamp, stale, stamps
from eddyfall.core.bake.maps.store import STORE
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.derive import Known, Later, derive
from eddyfall.core.frame.memo import Memo
from eddyfall.core.hashing import digest
from eddyfall.core.materials.shown import shown_on
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.receivers import NO_SET, Receiver, receivers, triangles_of, uv_of
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.uv.report import AssetReport, measured

Seen = dict[str, dict[int, int]]
DIFFERENT = 0.1  # a texel counts as spoilt if a cause changes it by a tenth
LEAST_TEXELS = 3

# Judgements of lightmaps: small, and dear to make, so they outlive the frames that were drawn meanwhile.
JUDGED = Memo(128 * 1024**2)


class Lightmaps:
    """The receivers of a surveyed build under the settings that hold, and ways to ask about them."""

    def __init__(self, survey: Survey, bake: Bake) -> None:
        self.survey, self.bake = survey, bake
        self.build = survey.build
        self.drawn = shown_on(survey.build, None).build  # as bakes see it
        self.geometry: Geometry = survey.geometry
        self.receivers: list[Receiver] = receivers(self.build, self.geometry, bake)
        self.sets = light_sets(self.build)
        self.packed: Known = survey.renderer.packed(survey.build)

    @property
    def baked(self) -> list[Receiver]:
        """Receivers that have a lightmap in some light set."""
        return [r for r in self.receivers if self.build.setup.lightmaps.get(r.name)]

    def sets_with_map(self, receiver: Receiver) -> list[str | None]:
        """Light sets in which a receiver has a lightmap whose picture is there."""
        records, keys = self.build.setup.lightmaps.get(receiver.name, {}), set(self.build.scene.image_keys)
        return [s for s in self.sets if (record := records.get(s or NO_SET)) is not None and record.image in keys]

    def own_arrays(self, receiver: Receiver) -> tuple[np.ndarray, np.ndarray]:
        """World corners (t, 3, 3) and lightmap UVs (t, 3, 2) of a receiver's triangles."""
        corners = self.geometry.triangles[triangles_of(self.geometry, receiver.drawables)]
        uv = uv_of(self.geometry, receiver.uv_set)
        return np.ascontiguousarray(self.geometry.positions[corners]), np.ascontiguousarray(uv[corners])

    def report(self, receiver: Receiver) -> AssetReport:
        report: AssetReport = derive(JUDGED, charts_report, *self.own_arrays(receiver), receiver, self.bake.uv_use).value
        return report

    def scene(self, light_set: str | None) -> LitScene:
        scene: LitScene = self.survey.derive(light_scene, self.drawn, self.packed, light_set)
        return scene

    def stamped(self, light_set: str | None) -> str:
        """Stamp of all that light can meet and of all that shines in a light set."""
        stamp: str = derive(JUDGED, stamp_of_scene, self.drawn, self.packed, light_set).value
        return stamp

    def raw(self, receiver: Receiver, light_set: str | None) -> Raw:
        return raw_of(self.build, self.geometry, receiver, light_set, self.bake, lambda: self.scene(light_set))

    def gathered(self, receiver: Receiver, light_set: str | None) -> Later:
        """What the bake of a receiver gathered, under the key that names what it was gathered from."""
        record = self.build.setup.lightmaps.get(receiver.name, {}).get(light_set or NO_SET)
        stored = record.raw if record is not None and record.raw and STORE.holds(record.raw) else None
        made_from = stored or gather_stamp(self.build, self.geometry, receiver, self.bake, light_set) + self.stamped(light_set)
        return Later(digest("gathered", made_from, receiver.resolution), partial(self.raw, receiver, light_set))

    def lit(self, receiver: Receiver, light_sets: list[str | None]) -> tuple[Later, Later]:
        """(the receiver's world geometry, what light meets in some light sets), under keys of what bears on the receiver."""
        own = digest(*self.own_arrays(receiver), [self.geometry.drawables[d].name for d in receiver.drawables])
        scenes = digest("scenes", [self.stamped(s) for s in light_sets])
        return Later(own + scenes, lambda: self.geometry), Later(scenes, lambda: [self.scene(s) for s in light_sets])

    def measured(self, make: Callable[..., Any], *arguments: Any) -> Any:
        """What make(*arguments) gives, kept under all that it reads."""
        return derive(JUDGED, make, *arguments).value

    def stale(self, light_set: str | None) -> list[Staleness]:
        result: list[Staleness] = derive(JUDGED, stale, self.drawn, self.packed, light_set, self.bake).value
        return result

    def shown(self, receivers_: list[Receiver], seen: Seen) -> dict[str, int]:
        """Pixels of each viewpoint that show some receivers."""
        members = {d for r in receivers_ for d in r.drawables}
        totals = {v: sum(n for d, n in counts.items() if d in members) for v, counts in seen.items()}
        return {v: n for v, n in totals.items() if n}

    def subjects(self, receivers_: list[Receiver]) -> tuple[str, ...]:
        return tuple(self.geometry.drawables[d].name for r in receivers_ for d in r.drawables)

    def mesh_of(self, receiver: Receiver) -> str:
        return self.geometry.drawables[receiver.drawables[0]].mesh

    def node_of(self, receiver: Receiver) -> str:
        return self.geometry.drawables[receiver.drawables[0]].node

    def bytes_of(self, receiver: Receiver, encoding: str) -> int:
        """Memory of its maps in all light sets."""
        return self.report(receiver).memory()[encoding] * len(self.sets)


def charts_report(corners: np.ndarray, uv: np.ndarray, receiver: Receiver, uv_use: str) -> AssetReport:
    """`measured`, as a function whose reads can be followed."""
    return measured(receiver, uv.astype(np.float64), corners.astype(np.float64), uv_use)


def stamp_of_scene(build: Build, geometry: Geometry, light_set: str | None) -> str:
    """Stamp of all that light can meet and of all that shines."""
    return scene_stamp(stamps(build, geometry, light_set))


def lightmaps_of(survey: Survey) -> Lightmaps:
    """The lightmaps of a survey, by the settings of its first viewpoint's role and target."""
    bake = survey.resolved(survey.viewpoints[0])[Bake] if survey.viewpoints else survey.build.setup[Bake]
    return Lightmaps(survey, bake)


def front_pixels(survey: Survey, viewpoint: str) -> dict[int, int]:
    """Pixels on which each drawable is in front."""
    drawable = survey.frame(viewpoint, "drawable").drawable
    counts = np.bincount(drawable[drawable >= 0])
    return {int(i): int(counts[i]) for i in np.flatnonzero(counts)}


def map_picture(values: np.ndarray, mark: np.ndarray, least_px: int = 256) -> np.ndarray:
    """Evidence: a lightmap as greys on its own scale, some texels (h, w) bool in signal colour; magnified to at least 256 px."""
    y = values.mean(axis=2)
    top = float(np.percentile(y[y > 0], 99)) if (y > 0).any() else 1.0
    grey = (np.clip(y / max(top, 1e-12), 0, 1) ** (1 / 2.2) * 215 + 20).astype(np.uint8)
    picture = np.repeat(grey[..., None], 3, axis=2)
    picture[mark] = (200, 86, 31)
    times = max(1, -(-least_px // picture.shape[0]))
    return np.repeat(np.repeat(picture, times, axis=0), times, axis=1)

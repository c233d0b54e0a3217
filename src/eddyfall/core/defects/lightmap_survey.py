"""What the lightmap families look at, measured once a build and kept with the passes' results."""

from collections import OrderedDict
from collections.abc import Callable
from typing import Any

import numpy as np

from eddyfall.core.bake.finish import Raw
from eddyfall.core.bake.light_scene import LitScene, light_scene
from eddyfall.core.bake.run import light_sets, raw_of
from eddyfall.core.bake.stamps import Staleness, stale
from eddyfall.core.defects.survey import Survey
from eddyfall.core.hashing import digest
from eddyfall.core.scene.drawables import geometry_hash
from eddyfall.core.scene.receivers import NO_SET, Receiver, receivers, triangles_of, uv_of
from eddyfall.core.scene.setup.bake import Bake
from eddyfall.core.uv.report import AssetReport, asset_report

Seen = dict[str, dict[int, int]]
DIFFERENT = 0.1  # a texel counts as spoilt if a cause changes it by a tenth
LEAST_TEXELS = 3

NOTES = 4000
_notes: OrderedDict[str, Any] = OrderedDict()


def noted(key: str, make: Callable[[], Any]) -> Any:
    """What `make` gives, kept under a key that names all it depends on. Small values only: they outlive the frames they were made from."""
    if key not in _notes:
        _notes[key] = make()
        if len(_notes) > NOTES:
            _notes.popitem(last=False)
    _notes.move_to_end(key)
    return _notes[key]


class Lightmaps:
    """The receivers of a surveyed build under the settings that hold, and ways to ask about them."""

    def __init__(self, survey: Survey, bake: Bake) -> None:
        self.survey, self.bake = survey, bake
        self.build = survey.build
        self.geometry = survey.geometry
        self.receivers: list[Receiver] = receivers(self.build, self.geometry, bake)
        self.sets = light_sets(self.build)
        self._geometry_key = geometry_hash(self.build.scene, self.build.setup)

    @property
    def baked(self) -> list[Receiver]:
        """Receivers that have a lightmap in some light set."""
        return [r for r in self.receivers if self.build.setup.lightmaps.get(r.name)]

    def sets_with_map(self, receiver: Receiver) -> list[str | None]:
        """Light sets in which a receiver has a lightmap whose picture is there."""
        records, keys = self.build.setup.lightmaps.get(receiver.name, {}), set(self.build.scene.image_keys)
        return [s for s in self.sets if (record := records.get(s or NO_SET)) is not None and record.image in keys]

    def report(self, receiver: Receiver) -> AssetReport:
        corners = self.geometry.triangles[triangles_of(self.geometry, receiver.drawables)]
        own = (
            np.ascontiguousarray(self.geometry.positions[corners]),
            np.ascontiguousarray(uv_of(self.geometry, receiver.uv_set)[corners]),
        )
        key = "charts" + digest(own, receiver, self.bake.uv_use)
        result: AssetReport = noted(key, lambda: asset_report(self.build, self.geometry, receiver, self.bake))
        return result

    def scene(self, light_set: str | None) -> LitScene:
        setup, scene = self.build.setup, self.build.scene
        key = "lit" + digest(
            self._geometry_key, scene.materials, scene.lights, setup.lights, setup.light_sets, setup.materials, setup.shaders,
            setup.nodes, setup.sky, setup.focus_regions, light_set,
        )  # fmt: skip
        result: LitScene = self.survey.remember(key, lambda: light_scene(self.build, self.geometry, light_set))
        return result

    def raw(self, receiver: Receiver, light_set: str | None) -> Raw:
        return raw_of(self.build, self.geometry, receiver, light_set, self.bake, lambda: self.scene(light_set))

    def judged(self, what: str, receiver: Receiver, settings: tuple[Any, ...], make: Callable[[], Any]) -> Any:
        """What a judgement of a receiver's stored lightmaps gave, remembered while what they gathered and `settings` stay the same."""
        records = self.build.setup.lightmaps.get(receiver.name, {})
        gathered = [(name, r.raw, r.image, r.encoding, r.scale_lux) for name, r in records.items()]
        return noted(what + digest(receiver, gathered, settings), make)

    def stale(self, light_set: str | None) -> list[Staleness]:
        key = "stale" + digest(self.build, light_set, self.bake)
        result: list[Staleness] = noted(key, lambda: stale(self.build, self.geometry, light_set, self.bake))
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


def lightmaps_of(survey: Survey) -> Lightmaps:
    """The lightmaps of a survey, by the settings of its first viewpoint's role and target."""
    bake = survey.resolved(survey.viewpoints[0]).bake if survey.viewpoints else survey.build.setup.bake
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

"""One texel and those about it, gathered sample by sample: what the questions of texel provenance are asked of."""

import numpy as np

from eddyfall.core.bake.light.footprint import Footprint
from eddyfall.core.bake.light.gather import Job, Samples, samples_of
from eddyfall.core.bake.light.jobs import job_of, receiver_footprint
from eddyfall.core.bake.light.light_scene import LitScene, light_scene
from eddyfall.core.bake.questions.texel_sheets import sheets_in_texel
from eddyfall.core.errors import RequestError
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.receivers import Receiver, uv_of
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.uv.charts import Page, measure_charts
from eddyfall.core.uv.overlap import measure_overlap

WINDOW = 7
EFFECT_SAMPLES = 4  # causes are taken away on this many times the samples of the bake, so that its noise does not hide them
MOST_SAMPLES = 8192


class Window:
    """The texels of a lightmap within WINDOW of one, with every sample of theirs; a sheet is a chart, or a fold of it over itself.

    owned: the m texels a chart owns; samples (m, n); sheet_of_sample (m, n) and sheet (m,); centre: index of the texel asked about.
    Raises RequestError if there is no such texel, or no chart near it.
    """

    def __init__(
        self, build: Build, geometry: Geometry, receiver: Receiver, light_set: str | None, bake: Bake, texel: tuple[int, int]
    ) -> None:
        edge = receiver.resolution
        if not (0 <= texel[0] < edge and 0 <= texel[1] < edge):
            raise RequestError(f"texel {texel[0]},{texel[1]} does not lie in the {edge} x {edge} lightmap of {receiver.name}")
        self.build, self.geometry, self.receiver, self.light_set = build, geometry, receiver, light_set
        self.bake, self.texel = bake, texel
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

    def sample_uv(self) -> np.ndarray:
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

    def texel_m(self) -> np.ndarray:
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

    def spot(self) -> Footprint:
        """A tiny part of the texel asked about: the place of its own surface nearest to its middle, among those that can be seen."""
        k = self.centre
        good = (self.sheet_of_sample[k] == self.sheet[k]) & ~self.samples.hidden[k]
        if not good.any():
            good = np.ones_like(good)
        places = self.samples.place[k][good]
        place = places[((places - places.mean(axis=0)) ** 2).sum(axis=1).argmin()]
        candidates = np.unique(self.owned.triangle[self.owned.first[k] : self.owned.first[k + 1]])
        world = self.geometry.positions[self.geometry.triangles[self.triangles[candidates]]].astype(np.float64)
        t = int(candidates[np.argmin([_outside(place[None], tri)[0] for tri in world])])
        corners = self.geometry.triangles[self.triangles[t]]
        p = self.geometry.positions[corners].astype(np.float64)
        uv = self.receiver.page_uv(uv_of(self.geometry, self.receiver.uv_set)[corners]) * self.edge
        weights, *_ = np.linalg.lstsq(np.stack([p[1] - p[0], p[2] - p[0]], axis=1), place - p[0], rcond=None)
        at = uv[0] + weights[0] * (uv[1] - uv[0]) + weights[1] * (uv[2] - uv[0])
        tiny = at + np.array([[0, 0], [1e-4, 0], [0, 1e-4]]) - 3e-5
        return Footprint(self.edge, self.owned.texel[k : k + 1], np.array([0, 1]), tiny[None], np.array([t]), np.array([1e-9]))


def _outside(places: np.ndarray, triangle: np.ndarray) -> np.ndarray:
    """(n,) how far places lie off a triangle: 0 on it; plane distance plus how far barycentric weights leave 0..1, in metres."""
    basis = np.stack([triangle[1] - triangle[0], triangle[2] - triangle[0]], axis=1)
    weights, *_ = np.linalg.lstsq(basis, (places - triangle[0]).T, rcond=None)
    off = np.linalg.norm(places - triangle[0] - (basis @ weights).T, axis=1)
    size = float(np.linalg.norm(basis, axis=0).max())
    under = np.minimum(np.minimum(weights[0], weights[1]), 1 - weights[0] - weights[1])
    return np.asarray(off + np.maximum(-under, 0) * size)

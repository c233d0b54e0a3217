"""What paths have brought so far, kept apart by part: sums that grow sample by sample, can be put away and taken up again.

Sums are taken in the order of the samples, so that a tally of 64 samples is the same, to the bit, in one go or in many."""

from __future__ import annotations

import copy
import io
import zipfile
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.sums import BINS, add

# Parts of what reaches the eye, besides each light: what shines itself, sky that is seen, light that the layer under the coat and the coat
# get from other surfaces, and from the sky, what blended surfaces in front bring, and fog.
PARTS = ("emission", "background", "bounce", "reflection", "sky by the layer under", "sky by the coat", "layers", "fog")
EMISSION, BACKGROUND, BOUNCE, REFLECTION, SKY_UNDER, SKY_COAT, LAYERS, FOG = range(len(PARTS))


@dataclass
class Tally:
    """n pixels, p parts and l lights. sums (n, p + 2 l, 3): parts, each light as it arrives, each as if nothing were in its way; squares
    (n,) of samples' luminance; shining (n, 2): sum of luminance and of its square of what shines itself or is the sky; clear (n, 3) sum of
    what blended surfaces, glass and mist in front leave of what lies behind; fades (n, 3) the same with what fog leaves; first (n,)
    drawable that the first sample met (-1: none); bins: samples by the luminance of what they brought from other surfaces; curve: (samples,
    RMS standard error in nits) at each doubling; asked: a stamp of all that samples depend on."""

    light_names: tuple[str, ...]
    pixels: np.ndarray
    size: tuple[int, int]
    count: int
    sums: np.ndarray
    squares: np.ndarray
    shining: np.ndarray
    clear: np.ndarray
    fades: np.ndarray
    first: np.ndarray
    bins: np.ndarray
    asked: str
    curve: list[tuple[int, float]] = field(default_factory=list)

    @staticmethod
    def empty(light_names: tuple[str, ...], pixels: np.ndarray, size: tuple[int, int], asked: str) -> Tally:
        """A tally of no samples. pixels (n, 2) x y of the full frame; asked: a stamp of all that its samples depend on."""
        n = len(pixels)
        return Tally(
            light_names, pixels, size, 0, np.zeros((n, len(PARTS) + 2 * len(light_names), 3)), np.zeros(n), np.zeros((n, 2)),
            np.zeros((n, 3)), np.zeros((n, 3)), np.full(n, -1, np.int64), np.zeros(BINS, np.int64), asked,
        )  # fmt: skip

    # What was found

    def part(self, number: int) -> np.ndarray:
        """(n, 3) nits of one part, as it reaches the eye."""
        return np.asarray(self.sums[:, number] / max(self.count, 1))

    def light(self, number: int, hindered: bool = True) -> np.ndarray:
        """(n, 3) nits of one light at what is seen, as it arrives or as if nothing were in its way."""
        return self.part(len(PARTS) + number + (0 if hindered else len(self.light_names)))

    @property
    def radiance(self) -> np.ndarray:
        """(n, 3) nits, all parts together."""
        return np.asarray(self.sums[:, : len(PARTS) + len(self.light_names)].sum(axis=1) / max(self.count, 1))

    @property
    def luminance(self) -> np.ndarray:
        """(n,) nits."""
        return np.asarray(self.radiance @ REC709_LUMA)

    @property
    def error(self) -> np.ndarray:
        """(n,) standard error of the luminance in nits; infinite before the second sample."""
        if self.count < 2:
            return np.full(len(self.pixels), np.inf)
        n, mean = self.count, self.luminance
        return np.asarray(np.sqrt(np.maximum(self.squares / n - mean * mean, 0.0) / (n - 1)))

    @property
    def silhouette(self) -> np.ndarray:
        """(n,) bool: pixels in which what shines itself, or the sky, begins or ends: their noise is that of an edge."""
        n = max(self.count, 1)
        mean = self.shining[:, 0] / n
        spread = np.sqrt(np.maximum(self.shining[:, 1] / n - mean * mean, 0.0))
        return np.asarray(spread > 0.1 * np.maximum(mean, 1e-12))

    # Growing

    def copy(self) -> Tally:
        """One that can grow by itself."""
        return copy.deepcopy(self)

    def add(self, part: slice, found: np.ndarray, clear: np.ndarray, fades: np.ndarray, first: np.ndarray, samples: int) -> None:
        """Add `samples` samples of each pixel of a part: found (n samples, parts + 2 l, 3) in the order of pixels, then samples. `count`
        grows once all parts are there."""
        seen = len(PARTS) + len(self.light_names)
        add(
            found, clear, fades, samples, seen, self.sums[part], self.squares[part], self.shining[part], self.clear[part],
            self.fades[part], self.bins,
        )  # fmt: skip
        if self.count == 0:
            self.first[part] = first.reshape(-1, samples)[:, 0]

    # Put away and taken up

    def save(self, path: Path) -> None:
        """Write the tally as .npz, whole or not at all. RequestError if it cannot be written."""
        buffer = io.BytesIO()
        np.savez(
            buffer, pixels=self.pixels, size=self.size, count=self.count, sums=self.sums, squares=self.squares, shining=self.shining,
            clear=self.clear, fades=self.fades, first=self.first, bins=self.bins, asked=self.asked, names=np.array(self.light_names, "U"),
            curve=np.array(self.curve, float).reshape(-1, 2),
        )  # fmt: skip
        try:
            temporary = path.with_name(path.name + ".part")
            temporary.write_bytes(buffer.getvalue())
            temporary.replace(path)
        except OSError as error:
            raise RequestError(f"{path} cannot be written: {error.strerror}") from None

    @staticmethod
    def load(path: Path) -> Tally:
        """What `save` wrote. RequestError if it is something else."""
        try:
            with np.load(path, allow_pickle=False) as held:
                a = {name: held[name] for name in held.files}
            n, lights = len(a["pixels"]), len(a["names"])
            right = {
                "pixels": (n, 2), "sums": (n, len(PARTS) + 2 * lights, 3), "squares": (n,), "shining": (n, 2), "clear": (n, 3),
                "fades": (n, 3), "first": (n,), "bins": (BINS,), "size": (2,), "count": (),
            }  # fmt: skip
            if any(a[name].shape != shape or a[name].dtype.kind not in "iuf" for name, shape in right.items()):
                raise ValueError("its arrays do not fit together")
            if a["count"] < 0 or not all(np.isfinite(a[name]).all() for name in right):
                raise ValueError("it holds what is no number")
            floats = {name: a[name].astype(float) for name in ("sums", "squares", "shining", "clear", "fades")}
            whole = {name: a[name].astype(np.int64) for name in ("pixels", "first", "bins")}
            return Tally(
                light_names=tuple(str(name) for name in a["names"]), size=(int(a["size"][0]), int(a["size"][1])), count=int(a["count"]),
                asked=str(a["asked"]), curve=[(int(row[0]), float(row[1])) for row in a["curve"]], **floats, **whole,
            )  # fmt: skip
        except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile) as error:
            raise RequestError(f"{path.name}: not a reference that was put away ({error})") from error

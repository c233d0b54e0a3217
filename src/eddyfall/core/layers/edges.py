"""Edges of what has alpha: what its picture's colours are to its alpha, and the rim that a wrong average shows."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.compare.ciede2000 import delta_e_2000
from eddyfall.core.frame.extent import Window, window_of_boxes
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.layers.census import covered
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, set_leaf
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.maps import Over, overridden_maps, with_maps
from eddyfall.core.scene.model import Image, Scene
from eddyfall.core.scene.setup.sections.screen import FROM_FRAME
from eddyfall.core.scene.setup.tables import SHADOWS_THROUGH, MaterialSetup
from eddyfall.core.shade.alpha_forms import Filters, Form, Holds, form_of, stored_as
from eddyfall.core.shade.blend import KINDS
from eddyfall.core.shade.srgb import DECODE_TABLE, decode, encode
from eddyfall.core.shade.textures import mip_chain

WORDS: dict[Holds, str] = {
    "straight": "straight", "premultiplied": "multiplied by alpha", "premultiplied_codes": "multiplied by alpha as codes",
}  # fmt: skip
THERE, STEP = 24, 8  # codes of alpha: of texels whose colour is judged, by which two of them differ
LEAST_PAIRS, SURE = 48, 0.6  # neighbours that are asked; of the next best reading's step
IMPOSSIBLE = 0.02  # share of texels that no such picture could hold
LEVELS, STRAYS = 3, 0.01  # mips looked at, share of white by which averages differ before a frame is drawn


@dataclass(frozen=True)
class Told:
    """What a picture's colours seem to be to its alpha (None: not to be told): mean step of its colour, in shares of white as codes, from
    one texel to the next of another alpha, were they straight, multiplied in light, or multiplied as codes (infinite: it holds what none
    could); pairs of texels."""

    holds: Holds | None
    steps: dict[Holds, float]
    pairs: int


def told(pixels: np.ndarray, mask: np.ndarray) -> Told:
    """What colours of a picture (h, w, 4) uint8 are to its alpha, over the texels of mask (h, w) bool: a colour has no reason to change
    with alpha, so the reading under which it changes least is the one that it was made by. Ours, without a source."""
    alpha = pixels[..., 3].astype(np.float64)
    there = mask & (alpha >= THERE)
    sides = []
    for axis in (0, 1):
        one, other = (np.s_[:-1], np.s_[1:]) if axis == 0 else (np.s_[:, :-1], np.s_[:, 1:])
        sides.append((one, other, there[one] & there[other] & (np.abs(alpha[one] - alpha[other]) >= STEP)))
    pairs = sum(int(asked.sum()) for _, _, asked in sides)
    steps: dict[Holds, float] = {}
    for holds in WORDS:
        colour, beyond = _read_as(pixels, holds)
        partial = there & (alpha < 255 - STEP)
        if not pairs or (partial.any() and beyond[partial].mean() > IMPOSSIBLE):
            steps[holds] = np.inf
            continue
        total = sum(float(np.abs(colour[one] - colour[other]).mean(axis=2)[asked].sum()) for one, other, asked in sides)
        steps[holds] = total / pairs
    best, second = sorted(steps, key=lambda h: steps[h])[:2]
    sure = pairs >= LEAST_PAIRS and np.isfinite(steps[best]) and steps[best] < SURE * steps[second]
    return Told(best if sure else None, steps, pairs)


def _read_as(pixels: np.ndarray, holds: Holds) -> tuple[np.ndarray, np.ndarray]:
    """((h, w, 3) colours as codes 0..1 that are not multiplied; (h, w) bool: texels that no picture of that kind could hold)."""
    a = np.maximum(pixels[..., 3:] / 255, 1e-9)
    codes = pixels[..., :3] / 255
    if holds == "straight":
        return codes, np.zeros(pixels.shape[:2], bool)
    if holds == "premultiplied_codes":
        return np.minimum(codes / a, 1.0), np.asarray((codes > a + 2 / 255).any(axis=2))
    light = DECODE_TABLE[pixels[..., :3]].astype(np.float64) / a
    return np.asarray(encode(light)), np.asarray((codes > encode(a) + 2 / 255).any(axis=2))


@dataclass(frozen=True)
class Painted:
    """A material's base picture: its image's number, and what it is told to hold over the texels that its triangles cover."""

    image: int
    told: Told


def painted_on(scene: Scene, over: tuple[Over, ...], geometry: Geometry, material: int) -> Painted | None:
    """What is known of a material's base picture, whatever the setup makes of it; None if it has none, or one without alpha. over: what is
    drawn in the stead of what the scene file binds."""
    use = with_maps(scene.materials, over)[material].base_texture
    if use is None:
        return None
    pixels = scene.images[use.image].pixels
    if pixels.shape[2] < 4 or (pixels[..., 3] == 255).all():
        return None
    return Painted(use.image, told(pixels, covered(geometry, material, pixels.shape[:2], use)))


@dataclass(frozen=True)
class Pictured:
    """A material's base picture: its image's number, what it is told to hold, how it is stored now and how it ought to be."""

    image: int
    told: Told
    now: Form
    due: Form

    @property
    def misread(self) -> bool:
        """Whether its colours are taken for something else than they are."""
        return self.told.holds is not None and self.now.holds != self.due.holds


def pictured(renderer: Renderer, build: Build, material: int, blend: str) -> Pictured | None:
    """What is known of a material's base picture, and what the setup makes of it; None if it has none, or one without alpha. blend: the
    material's kind."""
    if blend in ("opaque", "destination_out"):
        return None
    found: Painted | None = renderer.derive(
        painted_on, build.scene, overridden_maps(build), renderer.packed(build), material
    ).value
    if found is None:
        return None
    entry = build.setup.materials.get(build.scene.material_keys[material], MaterialSetup())
    now = form_of(blend, entry.colours_hold, entry.filtered)
    return Pictured(found.image, found.told, now, form_of(blend, found.told.holds or now.holds, "premultiplied"))


def strays(image: Image, of: Pictured) -> float:
    """How far light of the picture's first mips, as it is stored, is from what is due, in shares of white: the most of any texel."""
    if of.now == of.due:
        return 0.0
    pixels, most = image.pixels, 0.0
    for now, due in zip(_light(pixels, of.now), _light(pixels, of.due)):
        most = max(most, float(np.abs(now - due).max(initial=0.0)))
    return most


def _light(pixels: np.ndarray, form: Form) -> list[np.ndarray]:
    """(h, w, 3) light that each of the first mips adds, alpha taken into account."""
    chain = mip_chain(stored_as(pixels, form), True)[: LEVELS + 1]
    alone = form.stored == "premultiplied"
    return [decode(level[..., :3] / 255) * (1.0 if alone else level[..., 3:] / 255) for level in chain]


def put_right(build: Build, material: int, of: Pictured, filtered: Filters) -> Build:
    """The build with one material's picture read as what it is told to be, and averaged as it is or multiplied by alpha."""
    key = build.scene.material_keys[material]
    entry = build.setup.materials.get(key, MaterialSetup()).model_copy(
        update={"colours_hold": of.due.holds, "filtered": filtered}
    )
    return build.with_setup(build.setup.model_copy(update={"materials": build.setup.materials | {key: entry}}))


@dataclass(frozen=True)
class Rim:
    """CIEDE2000 (h, w) by which a frame is off through one material's picture: misread, since its colours are taken for something else than
    they are; averaged, since they are not multiplied by alpha before. now, due (h, w, 3) nits of the part that is drawn again, from
    pixel `origin` (x, y) on: as it is, and put right; both empty where nothing is."""

    misread: np.ndarray
    averaged: np.ndarray
    now: np.ndarray
    due: np.ndarray
    origin: tuple[int, int]

    def at(self, x: int, y: int) -> tuple[np.ndarray, np.ndarray]:
        """(now, due), (3,) nits each of a pixel of the part that is drawn again. IndexError for any other."""
        row, column = y - self.origin[1], x - self.origin[0]
        if row < 0 or column < 0:
            raise IndexError(f"pixel {x},{y} is not in the part from {self.origin} on")
        return self.now[row, column].astype(np.float64), self.due[row, column].astype(np.float64)


def rim(
    renderer: Renderer, build: Build, request: Request, material: int, of: Pictured, also: tuple[int, int] | None = None
) -> Rim:
    """What is off in a frame through a material's picture, by three pictures: as it is, read right, and averaged right too. Only the part
    is drawn that it lies in, where nothing but itself shows it; and up to pixel `also` (x, y), if one is asked for."""
    lies = renderer.frame(build, request, "drawable")
    x0, y0, x1, y1 = _reaching(_window(lies, request, material), also)
    (left, top), shape = lies.pixels.origin, lies.pixels.shape
    misread, averaged = np.zeros(shape, np.float32), np.zeros(shape, np.float32)
    if x1 <= x0 or y1 <= y0:
        return Rim(misread, averaged, np.zeros((0, 0, 3)), np.zeros((0, 0, 3)), (x0, y0))
    part, there = replace(request, crop=(x0, y0, x1, y1)), np.s_[y0 - top : y1 - top, x0 - left : x1 - left]
    entry = build.setup.materials.get(build.scene.material_keys[material], MaterialSetup())
    now, due = (renderer.frame(b, part) for b in (build, put_right(build, material, of, "premultiplied")))
    read = renderer.frame(put_right(build, material, of, entry.filtered), part).display if of.misread else now.display
    misread[there], averaged[there] = delta_e_2000(now.display, read), delta_e_2000(read, due.display)
    return Rim(misread, averaged, now.linear, due.linear, (x0, y0))


def _reaching(window: Window, pixel: tuple[int, int] | None) -> Window:
    """The least window that holds a window, if there is anything in it, and a pixel."""
    if pixel is None:
        return window
    (x, y), (x0, y0, x1, y1) = pixel, window
    if x1 <= x0 or y1 <= y0:
        return x, y, x + 1, y + 1
    return min(x0, x), min(y0, y), max(x1, x + 1), max(y1, y + 1)


def _window(frame: Frame, request: Request, material: int) -> Window:
    """(x0, y0, x1, y1) px of a frame that other colours of a material may change: where its things may lie; all of it, where what is lit
    or seen by means of the frame, of a mirror or of light through them shows them too."""
    state, resolved = frame.stage.state, frame.stage.resolved
    lit_by_frame = any(resolved[kind].enabled for kind in (FROM_FRAME["bounce"], FROM_FRAME["reflect"]))
    in_view = frame.buffers["in_view"]
    mine = [int(d) for d in in_view if frame.geometry.drawables[d].material == material]
    tints = (
        (state.blend == KINDS["multiply"])
        & (state.shadow_through == SHADOWS_THROUGH.index("tinted"))
        & (state.material == material)
    )
    if lit_by_frame or state.mirrors.any() or state.refracts[in_view].any() or tints.any():
        return request.window
    if state.solid[mine].all():  # then it is where it is in front
        (left, top), lies = frame.pixels.origin, np.isin(frame.drawable, mine)
        rows, columns = np.flatnonzero(lies.any(axis=1)), np.flatnonzero(lies.any(axis=0))
        if not len(rows):
            return (left, top, left, top)
        return (int(columns[0]) + left, int(rows[0]) + top, int(columns[-1]) + left + 1, int(rows[-1]) + top + 1)
    return window_of_boxes(frame.camera, frame.geometry.bounds[mine], request.size, request.window)


def read_right(build: Build, material: str, of: Pictured) -> Change:
    """What tells the renderer what a picture holds."""
    return set_leaf(
        build, ("materials", material, "colours_hold"), of.due.holds, scope="material",
        title=f"read the colours of {material} as {WORDS[of.due.holds]}",
    )  # fmt: skip

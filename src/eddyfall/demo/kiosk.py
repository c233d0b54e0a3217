"""The ticket kiosk's game, as a build of its own: a flat picture of the river, whose boats and buoys lie at one depth.

x runs along the screen, y up it, all sprites stand at z = 0 before a painted river. They are sorted by a direction, up the screen: what
has the higher foot is drawn first. One barge is a cutout, which no direction reaches, so that the buoy behind it shows over it; the reeds
have a rank left over from a trial. Beside each stands one that is as it ought to be.
"""

from pathlib import Path
from typing import Any

import numpy as np
from scipy.ndimage import gaussian_filter

from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo.files import write_files
from eddyfall.demo.shapes import card
from eddyfall.demo.world import World

NAME = "kiosk"
SEED = 1951
SPRITE = 128  # texels of a sprite's edge
SOFT = 2.0  # texels: how soft the edges of what is blended are


def make_kiosk(seed: int = SEED) -> tuple[Build, dict[str, Any]]:
    """The kiosk's game as a build, and its truth table."""
    world = World(np.random.default_rng(seed))
    world.setup.update(
        {
            "eddyfall_setup": 1,
            "depth": {"near_m": 0.1, "format": "float32", "reversed": True, "copy_from": "opaque"},
            "order": {"key": "direction", "direction": [0.0, 1.0, 0.0], "point": "nearest"},
            "exposure": {"mode": "off"},
            "sky": {"ambient": False},
            "shadow": {"enabled": False},
            "roles": {"play": {}, "edit": {}},
            "viewpoints": {"screen": {"eye": [0.0, 0.0, 10.0], "target": [0.0, 0.0, 0.0], "fov_y_deg": 30}},
        }
    )
    world.add("river", card((-6, 6), (-3.4, 3.4), -0.5, whole=True), world.material("river", _river(world.rng), unlit=True))
    _boats(world)
    _reeds(world)
    build = finish_build(world.scene(), parse_setup(world.setup), world.setup, [])
    return build, {"findings": world.truth, "healthy": world.healthy}


def write_kiosk(folder: Path, seed: int = SEED) -> dict[str, Path]:
    """Write GLB, setup and truth table into `folder` and return their paths."""
    return write_files(folder, NAME, *make_kiosk(seed))


def _boats(world: World) -> None:
    """A barge before a buoy on either hand; the left one is a cutout."""
    hull, float_ = _hull(), _buoy()
    for side, name, buoy in ((-1, "coal_barge", "red_buoy"), (1, "sand_barge", "green_buoy")):
        cutout = side < 0
        barge = world.material(
            name, _painted(hull, (92, 74, 60), 0.0 if cutout else SOFT), unlit=True, alpha_mode="MASK" if cutout else "BLEND"
        )
        rgb = (190, 62, 48) if cutout else (60, 150, 96)
        world.add(name, card((2.2 * side - 1.4, 2.2 * side + 1.4), (-1.7, -0.6), 0.0, whole=True), barge)
        world.add(
            buoy, card((2.2 * side - 0.4, 2.2 * side + 0.4), (-1.3, 0.5), 0.0, whole=True),
            world.material(buoy, _painted(float_, rgb, SOFT), unlit=True, alpha_mode="BLEND"),
        )  # fmt: skip
    world.sown("order.stages", "coal_barge | red_buoy", ["coal_barge", "red_buoy"], "a cutout among sprites")
    world.healthy.append({"subject": "sand_barge", "twin_of": "order.stages", "why": "it is blended, and sorted by its foot"})


def _reeds(world: World) -> None:
    """Reeds before everything by their foot, with a rank besides; a lamp's glow high up, whose rank is what draws it over the barge."""
    reeds = world.material("reeds", _painted(_stalks(world.rng), (70, 92, 52), SOFT), unlit=True, alpha_mode="BLEND")
    world.add("reeds", card((-4.6, -1.4), (-2.6, -1.2), 0.0, whole=True), reeds, draw_rank=1)
    glow = world.material("lamp_glow", _painted(_disc(), (120, 100, 50), 18.0), unlit=True, alpha_mode="BLEND")
    world.add("lamp_glow", card((1.4, 3.2), (-1.2, 0.6), 0.0, whole=True), glow, draw_rank=2)
    world.sown("order.leftover", "nodes.reeds.draw_rank", ["reeds"], "a rank of an earlier trial")
    world.healthy.append(
        {"subject": "lamp_glow", "twin_of": "order.leftover", "why": "without its rank the barge is drawn over it"}
    )


def _grid() -> tuple[np.ndarray, np.ndarray]:
    """(x, y) of a sprite's texels, -1 to 1, y up."""
    at = (np.arange(SPRITE) + 0.5) / SPRITE * 2 - 1
    x, y = np.meshgrid(at, -at)
    return x, y


def _hull() -> np.ndarray:
    x, y = _grid()
    hull = (y < 0.1) & (y > -0.8) & (np.abs(x) < 0.92 - 0.25 * (0.1 - y))
    return np.asarray(hull | (np.abs(x + 0.5) < 0.18) & (y >= 0.1) & (y < 0.6))


def _buoy() -> np.ndarray:
    x, y = _grid()
    return np.asarray((x**2 + (y + 0.45) ** 2 < 0.2) | (np.abs(x) < 0.12) & (y > -0.4) & (y < 0.85))


def _disc() -> np.ndarray:
    x, y = _grid()
    return np.asarray(x**2 + y**2 < 0.3)


def _stalks(rng: np.random.Generator) -> np.ndarray:
    x, y = _grid()
    stalks = np.zeros(x.shape, bool)
    for at, top in zip(rng.uniform(-0.85, 0.85, 14), rng.uniform(0.2, 0.8, 14)):
        stalks |= (np.abs(x - at - 0.06 * y) < 0.035) & (y > -0.9) & (y < top)
    return stalks


def _painted(mask: np.ndarray, rgb: tuple[int, int, int], soft: float) -> np.ndarray:
    """(h, w, 4) uint8: one colour all over, shaded from above, alpha a mask with edges so soft (texels)."""
    alpha = gaussian_filter(mask.astype(float), soft) if soft else mask.astype(float)
    shade = np.linspace(1.12, 0.8, SPRITE)[:, None, None]
    colours = np.clip(np.broadcast_to(np.array(rgb) * shade, (SPRITE, SPRITE, 3)), 0, 255)
    return np.dstack([colours, 255 * alpha]).round().astype(np.uint8)


def _river(rng: np.random.Generator) -> np.ndarray:
    """(h, w, 4) uint8: sky, far bank and water with ripples."""
    rows = np.linspace(0, 1, 256)[:, None]
    sky, bank, water = (np.array(rgb, float) for rgb in ((176, 190, 204), (96, 112, 84), (92, 120, 132)))
    picture = np.where((rows < 0.3)[..., None], sky, np.where((rows < 0.42)[..., None], bank, water)) * np.ones((1, 512, 1))
    ripples = gaussian_filter(rng.normal(size=(256, 512)), (1.0, 9.0)) * 30 * (rows >= 0.42)
    picture = np.clip(picture + ripples[..., None], 0, 255)
    return np.dstack([picture, np.full((256, 512), 255.0)]).round().astype(np.uint8)

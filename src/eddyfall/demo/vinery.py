"""The vinery behind the filter beds, as a build of its own: leaves, stencils, hedges, mist and shade cloths whose edges, depth and shadows
are at fault.

x runs along the path, y = 0 is the ground, visitors stand at z = 0 and look down their bay. Vine leaves have a white ground around them
that is averaged in; a stencilled sign holds colours that are multiplied by alpha and is blended as if they were not; a hedge far off thins
out with its mips; a cloth hangs in a box of mist that is sorted as one thing; a shade cloth throws no shadow, though shadows are meant; a
frosted sheet writes its depth before a banner behind it is drawn, and fog takes the depth of a draught curtain for that of the far wall.
Beside each stands one that is as it ought to be.
"""

from pathlib import Path
from typing import Any

import numpy as np
from scipy.ndimage import gaussian_filter

from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import TextureUse
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.shade.alpha_forms import Form, stored_as
from eddyfall.core.uv.bleed import spread
from eddyfall.demo import pictures
from eddyfall.demo.files import write_files
from eddyfall.demo.shapes import Shape, card
from eddyfall.demo.world import World

NAME = "vinery"
SEED = 1937
STANDS = {"leaves": -16.0, "signs": -8.0, "hedges": 0.0, "mist": 8.0, "shade": 16.0, "curtains": 24.0}  # x of each viewpoint
LEFT, RIGHT, DEEP, HIGH = -20.0, 28.0, 60.0, 3.6


def make_vinery(seed: int = SEED) -> tuple[Build, dict[str, Any]]:
    """The vinery as a build, and its truth table."""
    world = World(np.random.default_rng(seed))
    _settings(world)
    _walls(world)
    _leaves(world)
    _signs(world)
    _hedges(world)
    _mist(world)
    _shade(world)
    _curtains(world)
    build = finish_build(world.scene(), parse_setup(world.setup), world.setup, [])
    return build, {"findings": world.truth, "healthy": world.healthy}


def write_vinery(folder: Path, seed: int = SEED) -> dict[str, Path]:
    """Write GLB, setup and truth table into `folder` and return their paths."""
    return write_files(folder, NAME, *make_vinery(seed))


def _settings(world: World) -> None:
    world.setup.update(
        {
            "eddyfall_setup": 1,
            "depth": {"near_m": 0.1, "format": "float32", "reversed": True, "copy_from": "opaque"},
            "order": {"key": "range"},
            "exposure": {"mode": "off"},
            "fog": {"enabled": True, "fog_per_m": 0.02, "rgb": [0.5, 0.52, 0.54]},
            "sky": {"zenith_rgb": [0.17, 0.21, 0.28], "horizon_rgb": [0.3, 0.32, 0.33], "ground_rgb": [0.09, 0.09, 0.08]},
            "shadow": {"reach_m": 70.0, "resolution": 2048, "cascades": 2, "of_blended": "meant"},
            "roles": {"play": {}, "edit": {}},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 1.2, "towards": [0.15, 0.85, 0.5]}},
            "viewpoints": {name: {"eye": [x, 1.6, 0.0], "target": [x, 1.5, -1.0], "fov_y_deg": 55} for name, x in STANDS.items()},
        }
    )


def _walls(world: World) -> None:
    """Ground, walls between the bays, what closes each of them."""
    gravel = world.material("gravel", pictures.tinted(world.rng, 512, (132, 122, 104), 12, 0.25, 0.1), roughness=0.95, ior=1.0)
    brick = world.material("wall_brick", pictures.ashlar(world.rng, (128, 84, 66), rows=12), roughness=0.95, ior=1.0)
    world.add("path", Shape().quad((LEFT, 0, 2.0), (RIGHT - LEFT, 0, 0), (0, 0, -DEEP - 2.0), 2.0), gravel)
    walls = Shape().box((LEFT, 0, -DEEP - 0.3), (RIGHT, HIGH + 2.0, -DEEP), 2.0)
    for x in (-20.0, -12.0, -4.0, 4.0, 12.0, 20.0, 28.0):
        walls.box((x - 0.15, 0, -DEEP), (x + 0.15, HIGH, 0.6), 2.0)
    world.add("walls", walls, brick)
    back = Shape()
    for name in ("leaves", "signs", "mist", "shade"):
        back.box((STANDS[name] - 3.85, 0, -9.3), (STANDS[name] + 3.85, HIGH, -9.0), 2.0)
    world.add("back_walls", back, brick)


def _pictured(world: World, name: str, picture: np.ndarray, **fields: Any) -> int:
    image = world.image(name, picture)
    use = TextureUse(image, wrap_u="clamp", wrap_v="clamp")
    return world.material(name, base_texture=use, **{"unlit": True, "double_sided": True, **fields})


def _leaves(world: World) -> None:
    """Two sprays of vine leaves: one on a white ground, one whose colour was spread into what is clear."""
    x, picture = STANDS["leaves"], vine(np.random.default_rng(5))
    spread_out = np.dstack([spread(picture), picture[..., 3]])
    for k, (name, pixels) in enumerate((("vine_leaves", picture), ("trained_leaves", spread_out))):
        at = x - 2.6 + 2.8 * k
        material = _pictured(world, name, pixels, alpha_mode="MASK", alpha_cutoff=0.35)
        world.add(name, card((at, at + 2.4), (0.5, 2.9), -4.2, whole=True), material)
    world.sown("blend.fringe", "vine_leaves", ["vine_leaves"], "white ground")
    world.healthy.append(
        {"subject": "trained_leaves", "twin_of": "blend.fringe", "why": "its clear texels have the leaves' colour"}
    )


def _signs(world: World) -> None:
    """A stencilled sign with multiplied colours, blended as if they were straight, and one that is blended as what it is."""
    x, straight = STANDS["signs"], stencil()
    multiplied = stored_as(straight, Form("straight", "premultiplied", False))
    for k, (name, kind) in enumerate((("stencil", "blended"), ("stencil_right", "premultiplied"))):
        at = x - 2.5 + 2.6 * k
        material = _pictured(world, name, multiplied, alpha_mode="BLEND")
        world.entry("materials", name).update({"blend": kind, "shadow_through": "tinted"})
        world.add(name, card((at, at + 2.3), (0.7, 2.6), -3.6, whole=True), material)
    world.sown("blend.wrong-kind", "stencil", ["stencil"], "multiplied")
    world.healthy.append({"subject": "stencil_right", "twin_of": "blend.wrong-kind", "why": "its blend takes multiplied colours"})


def _hedges(world: World) -> None:
    """Two hedges at the end of a long bay: one thins out with its mips, the other's mips keep their coverage."""
    x, picture = STANDS["hedges"], foliage(np.random.default_rng(11))
    for k, name in enumerate(("far_hedge", "kept_hedge")):
        at = x - 3.6 + 3.7 * k
        material = _pictured(world, name, picture, alpha_mode="MASK", alpha_cutoff=0.5)
        world.add(name, card((at, at + 3.4), (0.0, 3.2), -44.0, whole=True), material)
    world.entry("materials", "kept_hedge")["coverage_kept"] = True
    world.sown("blend.coverage", "far_hedge", ["far_hedge"], "averaged alpha")
    world.healthy.append({"subject": "kept_hedge", "twin_of": "blend.coverage", "why": "as much of it passes at every level"})


def _mist(world: World) -> None:
    """Two boxes of mist with a dark cloth hung in each: one sorted as one thing, one drawn in parts."""
    x = STANDS["mist"]
    cloth = world.material("cloth", base_rgba=(0.06, 0.07, 0.06, 0.75), unlit=True, alpha_mode="BLEND", double_sided=True)
    world.entry("materials", "cloth")["shadow_through"] = "tinted"
    bounds = world.material("mist_bounds", base_rgba=(0.8, 0.8, 0.8, 1.0))
    for k, (name, sort) in enumerate((("bed_mist", "object"), ("parted_mist", "split"))):
        at = x - 3.5 + 3.7 * k
        world.add(name, Shape().box((at, 0.05, -7.6), (at + 3.2, 2.6, -3.4)), bounds)
        world.add(f"{name}_cloth", card((at + 0.7, at + 2.5), (0.5, 2.2), -4.4, whole=True), cloth)
        world.setup.setdefault("volumes", {})[name] = {"node": name, "per_m": 0.55, "rgb": [0.62, 0.65, 0.66], "sort": sort}
    world.sown("volume.order", "volumes.bed_mist", ["bed_mist", "bed_mist_cloth"], "one thing")
    world.healthy.append({"subject": "parted_mist", "twin_of": "volume.order", "why": "what hangs in it comes between its parts"})


def _shade(world: World) -> None:
    """Two shade cloths over staging: one throws no shadow, the other colours the light that goes through it."""
    x = STANDS["shade"]
    for k, (name, through) in enumerate((("shade_cloth", None), ("tinted_cloth", "tinted"))):
        at = x - 3.0 + 3.3 * k
        material = world.material(
            name, base_rgba=(0.25, 0.4, 0.28, 0.55), alpha_mode="BLEND", double_sided=True, roughness=0.9, ior=1.0
        )
        if through:
            world.entry("materials", name)["shadow_through"] = through
        world.add(name, Shape().quad((at, 2.7, -3.2), (2.7, 0, 0), (0, 0, -3.2)), material)
    world.sown("shadow.translucent", "shade_cloth", ["shade_cloth"], "no shadow")
    world.healthy.append({"subject": "tinted_cloth", "twin_of": "shadow.translucent", "why": "light goes on coloured"})
    staging = world.material("staging", pictures.planks(world.rng, (150, 120, 84), boards=5), roughness=0.9, ior=1.0)
    world.add("staging", Shape().box((x - 3.2, 0, -6.6), (x + 3.2, 0.7, -3.4), 1.0), staging)


def _curtains(world: World) -> None:
    """Two frosted sheets before banners, one drawn first, both writing their depth; and two clear curtains, one of which
    stands in the depth copy."""
    x = STANDS["curtains"]
    banner = world.material("banner", base_rgba=(0.7, 0.2, 0.1, 0.8), unlit=True, alpha_mode="BLEND", double_sided=True)
    world.entry("materials", "banner")["shadow_through"] = "tinted"
    for k, name in enumerate(("frosted_sheet", "frosted_last")):
        at = x - 3.3 + 1.7 * k
        sheet = world.material(name, base_rgba=(0.5, 0.55, 0.58, 0.45), unlit=True, alpha_mode="BLEND", double_sided=True)
        world.entry("materials", name).update({"writes_depth": "drawn", "shadow_through": "tinted"})
        world.add(name, card((at, at + 1.5), (0.6, 2.5), -4.0, whole=True), sheet)
        world.add(f"{name}_banner", card((at + 0.2, at + 1.3), (0.9, 2.2), -5.5, whole=True), banner)
    world.entry("nodes", "frosted_sheet")["draw_rank"] = -1
    world.sown("blend.writes-depth", "frosted_sheet", ["frosted_sheet", "frosted_sheet_banner"], "drawn first")
    world.healthy.append(
        {"subject": "frosted_last", "twin_of": "blend.writes-depth", "why": "what lies behind it is drawn before"}
    )
    for k, (name, writes) in enumerate((("draught_curtain", "copied"), ("still_curtain", "drawn"))):
        at = x + 0.1 + 1.5 * k
        clear = world.material(name, base_rgba=(0.8, 0.85, 0.85, 0.12), unlit=True, alpha_mode="BLEND", double_sided=True)
        world.entry("materials", name).update({"writes_depth": writes, "shadow_through": "tinted"})
        world.add(name, card((at, at + 1.3), (0.5, 2.5), -3.0, whole=True), clear)
    world.sown("glass.fog-depth", "draught_curtain", ["draught_curtain"], "its depth is copied")
    world.healthy.append({"subject": "still_curtain", "twin_of": "glass.fog-depth", "why": "its depth stands in no copy"})


def vine(rng: np.random.Generator, size: int = 256) -> np.ndarray:
    """(size, size, 4) uint8: leaves on stalks over a white ground that is clear."""
    y, x = (np.mgrid[0:size, 0:size] + 0.5) / size
    alpha, green = np.zeros((size, size)), np.zeros((size, size))
    for stalk in range(4):
        at = 0.16 + 0.23 * stalk
        alpha = np.maximum(alpha, np.clip((0.008 - np.abs(x - at - 0.03 * np.sin(9 * y + stalk))) * size + 0.5, 0, 1))
    for _ in range(34):
        cx, cy, turn = rng.uniform(0.08, 0.92), rng.uniform(0.08, 0.92), rng.uniform(0, np.pi)
        u = (x - cx) * np.cos(turn) + (y - cy) * np.sin(turn)
        v = -(x - cx) * np.sin(turn) + (y - cy) * np.cos(turn)
        long, wide = rng.uniform(0.07, 0.11), rng.uniform(0.025, 0.045)
        leaf = np.clip((1 - np.hypot(u / long, v / wide)) * wide * size + 0.5, 0, 1)
        alpha, green = np.maximum(alpha, leaf), np.where(leaf > 0, rng.uniform(0.75, 1.1), green)
    ink = np.array([52, 92, 40]) * np.where(green > 0, green, 0.9)[..., None]
    rgb = np.where(alpha[..., None] > 0, ink, 255)
    return np.dstack([np.clip(rgb, 0, 255), alpha * 255]).astype(np.uint8)


def stencil(size: int = 256) -> np.ndarray:
    """(size, size, 4) uint8, straight: a ring with a bar across it, sprayed with soft edges in orange."""
    y, x = (np.mgrid[0:size, 0:size] + 0.5) / size * 2 - 1
    ring = (np.hypot(x, y) < 0.82) & (np.hypot(x, y) > 0.55)
    bar = (np.abs(x) < 0.62) & (np.abs(y) < 0.14)
    alpha = gaussian_filter((ring | bar).astype(float), size / 24)
    rgb = np.broadcast_to(np.array([224, 132, 46]), (size, size, 3))
    return np.dstack([rgb, np.clip(alpha, 0, 1) * 255]).astype(np.uint8)


def foliage(rng: np.random.Generator, size: int = 512) -> np.ndarray:
    """(size, size, 4) uint8: small leaves that leave a third of the picture open, all or nothing."""
    grain = gaussian_filter(rng.normal(size=(size, size)), 1.6, mode="wrap")
    covered = grain > np.quantile(grain, 0.66)
    tone = 0.8 + 0.4 * gaussian_filter(rng.random((size, size)), 6, mode="wrap")
    rgb = np.array([58, 92, 44]) * tone[..., None]
    return np.dstack([np.clip(rgb, 0, 255), np.where(covered, 255, 0)]).astype(np.uint8)

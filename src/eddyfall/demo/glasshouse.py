"""The visitors' glasshouse, as a build of its own: mist, panes, banners and a water tank, all blended, sorted by range to the eye.

x runs along the benches, y = 0 is the floor, visitors walk at z = 0 and look at the spray benches at z = -4 or back at the tank at
z = 4. A card that cuts streaks into the mist changes places with it on the way; two banners cross; the tank's faces are drawn in the
order of the file; a board and a trellis are blended for nothing. A second pair of sheets and a bell jar that hides its back faces are as
they ought to be.
"""

from pathlib import Path
from typing import Any

import numpy as np

from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo import pictures
from eddyfall.demo.files import write_files
from eddyfall.demo.shapes import Shape, card
from eddyfall.demo.world import World

NAME = "glasshouse"
SEED = 1923
HEIGHT, DEEP, LONG = 4.2, 8.0, 9.0


def make_glasshouse(seed: int = SEED) -> tuple[Build, dict[str, Any]]:
    """The glasshouse as a build, and its truth table."""
    world = World(np.random.default_rng(seed))
    _settings(world)
    _house(world)
    _spray_benches(world)
    _banners(world)
    _tank(world)
    _boards(world)
    build = finish_build(world.scene(), parse_setup(world.setup), world.setup, [])
    return build, {"findings": world.truth, "healthy": world.healthy}


def write_glasshouse(folder: Path, seed: int = SEED) -> dict[str, Path]:
    """Write GLB, setup and truth table into `folder` and return their paths."""
    return write_files(folder, NAME, *make_glasshouse(seed))


def _settings(world: World) -> None:
    world.setup.update(
        {
            "eddyfall_setup": 1,
            "depth": {"near_m": 0.1, "format": "float32", "reversed": True, "copy_from": "opaque"},
            "order": {"key": "range"},
            "exposure": {"mode": "off"},
            "sky": {"zenith_rgb": [0.16, 0.2, 0.26], "horizon_rgb": [0.3, 0.33, 0.34], "ground_rgb": [0.08, 0.08, 0.07]},
            "shadow": {"reach_m": 30.0, "resolution": 1024, "cascades": 2},
            "roles": {"play": {}, "edit": {}},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 0.9, "towards": [0.35, 0.8, 0.45]}},
            "viewpoints": {
                "walk_left": {"eye": [-3.0, 1.6, 0.0], "target": [-3.0, 1.6, -1.0], "fov_y_deg": 55},
                "walk_right": {"eye": [3.0, 1.6, 0.0], "target": [3.0, 1.6, -1.0], "fov_y_deg": 55},
                "banners": {"eye": [4.5, 1.6, 0.0], "target": [4.5, 1.7, 1.0], "fov_y_deg": 55},
                "tank": {"eye": [-3.0, 2.1, 0.4], "target": [-4.2, 0.9, 4.0], "fov_y_deg": 55},
            },
            "moves": {
                "walk": {"keys": {"from": {"t_s": 0, "viewpoint": "walk_left"}, "to": {"t_s": 3, "viewpoint": "walk_right"}}}
            },
        }
    )


def _house(world: World) -> None:
    """Floor, walls and the iron frame that holds the roof."""
    brick = world.material("brick", pictures.ashlar(world.rng, (126, 84, 66), rows=14), roughness=0.95, ior=1.0)
    tiles = world.material("quarry_tiles", pictures.ashlar(world.rng, (112, 78, 62), rows=8), roughness=0.9, ior=1.0)
    iron = world.material("white_iron", base_rgba=(0.62, 0.66, 0.62, 1.0), roughness=0.8, ior=1.0)
    world.add("floor", Shape().quad((-LONG, 0, DEEP), (2 * LONG, 0, 0), (0, 0, -2 * DEEP), 2.0), tiles)
    walls = Shape().box((-LONG - 0.3, 0, -DEEP - 0.3), (LONG + 0.3, HEIGHT, -DEEP), 2.0)
    walls.box((-LONG - 0.3, 0, DEEP), (LONG + 0.3, HEIGHT, DEEP + 0.3), 2.0)
    walls.box((-LONG - 0.3, 0, -DEEP), (-LONG, HEIGHT, DEEP), 2.0).box((LONG, 0, -DEEP), (LONG + 0.3, HEIGHT, DEEP), 2.0)
    world.add("walls", walls, brick)
    frame = Shape()
    for k in range(7):
        x = -LONG + 0.3 + k * (2 * LONG - 0.6) / 6
        frame.box((x - 0.05, 0, -DEEP + 0.02), (x + 0.05, HEIGHT, -DEEP + 0.12)).box(
            (x - 0.05, 0, DEEP - 0.12), (x + 0.05, HEIGHT, DEEP - 0.02)
        )
    world.add("frame", frame, iron)


def _sheet(
    world: World, name: str, grey: float, alpha: float, tint: tuple[float, float, float] = (1.0, 1.0, 1.0), **more: Any
) -> int:
    colour = (grey * tint[0], grey * tint[1], grey * tint[2], alpha)
    return world.material(name, base_rgba=colour, unlit=True, alpha_mode="BLEND", **{"double_sided": True, **more})


def _spray_benches(world: World) -> None:
    """Benches with ferns under the mist, the card that cuts streaks into it, a draught pane before both; sheets that lie well."""
    timber = world.material("bench_timber", pictures.planks(world.rng, (112, 92, 66), boards=4), roughness=0.9, ior=1.0)
    leaf = world.material("fern_green", base_rgba=(0.12, 0.26, 0.1, 1.0), roughness=0.9, ior=1.0)
    for k, x in enumerate((-4.4, 0.0, 4.4)):
        world.add(
            f"bench_{k}",
            Shape().box((x - 1.9, 0.62, -5.6), (x + 1.9, 0.7, -4.4)).box((x - 1.8, 0, -5.5), (x + 1.8, 0.62, -5.4)),
            timber,
        )
        ferns = Shape()
        for p in range(6):
            at = (x - 1.5 + 0.6 * p, 0.7, -5.0 + 0.25 * (p % 2))
            ferns.tube(at, (at[0], at[1] + 0.5 + 0.18 * (p % 3), at[2]), 0.05, 0.32, 9)
        world.add(f"ferns_{k}", ferns, leaf)
    mist, cutter = _sheet(world, "mist", 0.8, 0.5), _sheet(world, "streaks", 0.0, 0.7)
    world.entry("materials", "streaks")["blend"] = "destination_out"
    world.add("mist_card", card((-1.5, 1.5), (0.5, 2.5), -4.0), mist)
    world.add("streak_cutter", card((0.75, 2.25), (0.75, 2.25), -3.6), cutter)
    world.add("draught_pane", card((-2.6, 0.4), (0.4, 2.6), -2.0), _sheet(world, "pane", 0.6, 0.1, (0.9, 1.0, 0.95)))
    world.add("far_fleece", card((-5.6, -3.2), (0.7, 2.0), -6.4), _sheet(world, "fleece", 0.7, 0.4, (1.0, 0.97, 0.9)))
    world.add("near_net", card((-5.6, -3.2), (0.5, 2.2), -3.2), _sheet(world, "green_net", 0.5, 0.3, (0.5, 1.0, 0.6)))
    world.truth.append(
        {
            "code": "order.flip",
            "cause": "mist_card | streak_cutter",
            "subjects": ["mist_card"],
            "seed": "range",
            "hidden_in_roles": {},
        }
    )
    world.healthy.append(
        {"subject": "far_fleece", "twin_of": "order.flip", "why": "it lies behind the net from everywhere on the walk"}
    )


def _banners(world: World) -> None:
    """Two banners that cross: whichever is drawn first, one half is wrong."""
    red, blue = (
        _sheet(world, "red_banner", 0.6, 0.55, (1.0, 0.25, 0.2)),
        _sheet(world, "blue_banner", 0.6, 0.55, (0.25, 0.4, 1.0)),
    )
    world.add("banner_red", Shape().quad((5.4, 0.8, 3.6), (-1.8, 0, 1.2), (0, 2.2, 0)), red)
    world.add("banner_blue", Shape().quad((5.4, 0.6, 4.8), (-1.8, 0, -1.2), (0, 2.0, 0)), blue)
    world.truth.append(
        {"code": "order.no-valid-order", "cause": "banner_blue | banner_red", "subjects": ["banner_red", "banner_blue"], "seed": "crossing",
         "hidden_in_roles": {}}
    )  # fmt: skip


def _tank(world: World) -> None:
    """A tank of one mesh whose faces are drawn as the file has them, and a bell jar that leaves out those that look away."""
    glass = world.material(
        "tank_glass", _weedy(world.rng), unlit=True, alpha_mode="BLEND", double_sided=True, base_rgba=(1.0, 1.0, 1.0, 0.6)
    )
    jar = _sheet(world, "jar_glass", 0.7, 0.3, double_sided=False)
    world.add("water_tank", Shape().box((-5.0, 0.4, 3.4), (-3.6, 1.5, 4.6), 1.4, faces="zZxXY"), glass)
    world.add("bell_jar", Shape().box((-3.1, 0.75, 4.2), (-2.7, 1.4, 4.6)), jar)
    stand = world.material("tank_stand", base_rgba=(0.2, 0.2, 0.2, 1.0), roughness=0.9, ior=1.0)
    world.add("tank_stand", Shape().box((-5.1, 0, 3.3), (-3.5, 0.4, 4.7)).box((-3.2, 0, 4.1), (-2.6, 0.75, 4.7)), stand)
    world.truth.append(
        {
            "code": "order.inside-mesh",
            "cause": "water_tank",
            "subjects": ["water_tank"],
            "seed": "file order",
            "hidden_in_roles": {},
        }
    )
    world.healthy.append({"subject": "bell_jar", "twin_of": "order.inside-mesh", "why": "its back faces are left out"})


def _boards(world: World) -> None:
    """A board and a trellis that came in as blended: the alpha of the one is one almost everywhere, that of the other nothing but holes."""
    board, wood = pictures.planks(world.rng, (196, 186, 158), boards=3), pictures.grating((150, 118, 82), periods=6, size=192)
    board[..., 3] = 255 - world.rng.integers(0, 6, board.shape[:2])
    sheet = Shape().quad((-1.5, 0.2, 5.2), (-0.7, 0, 0), (0, 1.7, 0))
    for name, shape, picture in (
        ("seed_board", Shape().box((-7.6, 0.7, 5.2), (-6.8, 1.5, 5.24)), board),
        ("trellis", sheet, wood),
    ):
        kind = world.material(
            name, picture, unlit=True, alpha_mode="BLEND", base_rgba=(0.5, 0.5, 0.5, 1.0), double_sided=shape is sheet
        )
        world.add(name, shape, kind)
        world.truth.append(
            {"code": "blend.unjustified", "cause": name, "subjects": [name], "seed": "alpha mode", "hidden_in_roles": {}}
        )
    world.entry("nodes", "trellis")["casts"] = False
    world.healthy.append({"subject": "water_tank", "twin_of": "blend.unjustified", "why": "it lets through all over"})


def _weedy(rng: np.random.Generator, size: int = 256) -> np.ndarray:
    """(size, size, 4) uint8: water with weed growing up the glass, lighter towards the top."""
    y, x = np.mgrid[0:size, 0:size] / size
    weed = pictures.noise(rng, size, 9) > 0.42 + 0.5 * (1 - y)
    water = np.stack([0.35 + 0.25 * (1 - y), 0.75 + 0.1 * x, 0.85 - 0.1 * y], axis=-1)
    rgb = np.where(weed[..., None], np.array([0.16, 0.36, 0.1]), water)
    return (np.concatenate([rgb, np.ones((size, size, 1))], axis=-1) * 255).astype(np.uint8)

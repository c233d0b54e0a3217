"""The diving store under the pump hall, as a build of its own: what came from elsewhere and is drawn by base shaders that are not here.

x runs along the front, y = 0 is the floor, one stands at z = 0 and looks at the shelves at z = -3. Two helmets have a lacquer of an older
project, a signal lamp one with a value that no other has, a flask is told by specular and gloss; a depth gauge's print lies bonded under
its acrylic and shines by itself, handwheels have their colour wired to their opacity, and an elbow of the air pipe is gone. A helmet with a
stock base shader, a gauge with air under its glass and a grille whose holes are holes are as they ought to be.
"""

from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np

from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import Gloss, Node
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo import pictures
from eddyfall.demo.files import write_files
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World

NAME = "diving_store"
SEED = 1934
STANDS = {"helmets": -3.0, "gauges": 0.0, "handwheels": 3.0}  # x of each viewpoint
SHELF = 1.0  # height of the shelves
BACK = -3.4
PIPE_Y, BEND = 2.5, 0.35
LACQUER: dict[str, Any] = {
    "works_on": [],
    "parameters": {
        "tint": {"role": "base_rgb", "how": "srgb"},
        "shine": {"role": "roughness", "how": "one_minus"},
        "metal": {"role": "metallic", "how": "hundredth", "unit": "%"},
    },
}
SIGNAL: dict[str, Any] = {"works_on": [], "parameters": {"tint": {"role": "base_rgb", "how": "srgb"}, "blink": {"unit": "1/s"}}}


def make_diving_store(seed: int = SEED) -> tuple[Build, dict[str, Any]]:
    """The diving store as a build, and its truth table."""
    world = World(np.random.default_rng(seed))
    _settings(world)
    _room(world)
    _helmets(world)
    _gauges(world)
    _handwheels(world)
    _pipe(world)
    build = finish_build(world.scene(), parse_setup(world.setup), world.setup, [])
    return build, {"findings": world.truth, "healthy": world.healthy}


def write_diving_store(folder: Path, seed: int = SEED) -> dict[str, Path]:
    """Write GLB, setup and truth table into `folder` and return their paths."""
    return write_files(folder, NAME, *make_diving_store(seed))


def _settings(world: World) -> None:
    world.setup.update(
        {
            "eddyfall_setup": 1,
            "depth": {"near_m": 0.05, "format": "float32", "reversed": True, "copy_from": "opaque"},
            "order": {"key": "range"},
            "refract": {"enabled": True, "layers": 2},
            "exposure": {"mode": "fixed", "ev100": 3.0},
            "sky": {"zenith_rgb": [1.6, 1.9, 2.2], "horizon_rgb": [1.4, 1.4, 1.3], "ground_rgb": [0.5, 0.45, 0.4]},
            "shadow": {"reach_m": 8.0, "resolution": 4096, "cascades": 1},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 9.0, "towards": [0.35, 0.75, 0.56]}},
            "shaders": {"old_lacquer": LACQUER, "old_signal": SIGNAL},
            "viewpoints": {
                "helmets": {"eye": [-3.0, 1.7, 0.0], "target": [-3.0, 1.3, -3.0], "fov_y_deg": 40},
                "gauges": {"eye": [0.0, 2.1, -1.9], "target": [0.0, 1.05, -2.75], "fov_y_deg": 58},
                "handwheels": {"eye": [3.0, 1.7, 0.0], "target": [3.0, 1.3, -3.0], "fov_y_deg": 40},
            },
        }
    )


def _room(world: World) -> None:
    stone = world.material("store_wall", pictures.ashlar(world.rng, (150, 142, 124), rows=8), roughness=0.95, ior=1.0)
    flags = world.material("store_floor", pictures.ashlar(world.rng, (112, 104, 92), rows=6), roughness=0.9, ior=1.0)
    wood = world.material("shelf_boards", pictures.planks(world.rng, (128, 100, 66), boards=4), roughness=0.9, ior=1.0)
    world.add("store_floor", Shape().quad((-5, 0, 1.0), (10, 0, 0), (0, 0, -5.0), 2.0), flags)
    world.add("store_wall", Shape().quad((-5, 0, BACK), (10, 0, 0), (0, 3.2, 0), 2.0), stone)
    for name, x in STANDS.items():
        world.add(f"{name}_shelf", Shape().box((x - 1.3, SHELF - 0.06, BACK), (x + 1.3, SHELF, -2.5), 1.0), wood)


def _helmet(x: float) -> Shape:
    """A dome on a collar, with a port."""
    shape = Shape().tube((x, SHELF, -2.95), (x, SHELF + 0.1, -2.95), 0.24, 0.22, 24)
    rings = np.linspace(0, np.pi / 2, 7)
    for low, high in pairwise(rings):
        y0, y1 = (SHELF + 0.24 + 0.19 * float(np.sin(a)) for a in (low, high))
        r0, r1 = (0.19 * float(np.cos(a)) for a in (low, high))
        shape.tube((x, y0, -2.95), (x, y1, -2.95), r0, max(r1, 1e-3), 24, caps=False)
    shape.tube((x, SHELF + 0.1, -2.95), (x, SHELF + 0.24, -2.95), 0.19, 0.19, 24, caps=False)
    return shape.tube((x, SHELF + 0.24, -2.8), (x, SHELF + 0.24, -2.72), 0.1, 0.1, 20)


def _helmets(world: World) -> None:
    """Helmets of an older project's lacquer, a lamp of its signal shader, a flask by specular and gloss; a helmet of the stock one."""
    x = STANDS["helmets"]
    for k, (name, tint, metal) in enumerate(
        (("helmet_copper", (0.78, 0.47, 0.32), 30.0), ("helmet_black", (0.18, 0.2, 0.22), 0.0))
    ):
        material = world.material(name, shader="old_lacquer", roughness=0.5)
        world.entry("materials", name)["values"] = {
            "tint": {"rgb": list(tint)}, "shine": {"value": 0.55}, "metal": {"value": metal},
        }  # fmt: skip
        world.add(name, _helmet(x - 0.85 + 0.6 * k), material)
    stock = world.material("helmet_stock", base_rgba=(0.5, 0.36, 0.12, 1.0), roughness=0.45)
    world.add("helmet_stock", _helmet(x + 0.35), stock)
    lamp = world.material("signal_lamp", shader="old_signal", roughness=0.4)
    world.entry("materials", "signal_lamp")["values"] = {"tint": {"rgb": [0.8, 0.15, 0.1]}, "blink": {"value": 2.0}}
    world.add("signal_lamp", Shape().box((x + 0.72, SHELF, -3.05), (x + 0.92, SHELF + 0.3, -2.85)), lamp)
    flask = world.material("air_flask", metallic=1.0, roughness=1.0, gloss=Gloss((0.1, 0.26, 0.2, 1.0), (0.08, 0.08, 0.08), 0.5))
    world.add("air_flask", Shape().tube((x + 1.12, SHELF, -2.9), (x + 1.12, SHELF + 0.5, -2.9), 0.09, 0.09, 20), flask)
    world.sown("material.unsupported", "old_lacquer", ["helmet_copper", "helmet_black"], "an older project's lacquer")
    world.sown("material.unsupported", "signal_lamp", ["signal_lamp"], "a value that no other has")
    world.sown("material.unsupported", "stock_specular_gloss", ["air_flask"], "specular and gloss")
    world.healthy.append({"subject": "helmet_stock", "twin_of": "material.unsupported", "why": "its base shader is a stock one"})


def _gauges(world: World) -> None:
    """A gauge whose print is bonded under its acrylic, and one with three millimetres of air under its glass, under a lamp both mirror."""
    x = STANDS["gauges"]
    case = world.material("gauge_case", base_rgba=(0.06, 0.07, 0.07, 1.0), roughness=0.9, ior=1.0)
    for k, (name, gap) in enumerate((("bonded_gauge", 0.0002), ("open_gauge", 0.003))):
        at, y, z = x - 0.45 + 0.9 * k, SHELF, -2.75
        dial = world.material(f"{name}_print", _print(), roughness=0.22, ior=1.47)
        shell = world.material(
            f"{name}_cover", base_rgba=(1.0, 1.0, 1.0, 1.0), roughness=0.04, ior=1.49, transmission=1.0, thickness_m=0.005
        )
        world.add(f"{name}_case", Shape().box((at - 0.36, y, z - 0.36), (at + 0.36, y + 0.08, z + 0.36)), case)
        top = y + 0.081
        world.add(f"{name}_print", Shape().quad((at - 0.3, top, z + 0.3), (0.6, 0, 0), (0, 0, -0.6), 0.6), dial)
        world.add(f"{name}_cover", Shape().box((at - 0.33, top + gap, z - 0.33), (at + 0.33, top + gap + 0.005, z + 0.33)), shell)
        world.lamp(f"{name}_lamp", (2 * at, 2.1, -3.3), 14.0)
    world.sown("material.inner-gloss", "bonded_gauge_print", ["bonded_gauge_print", "bonded_gauge_cover"], "mirrors as in air")
    world.healthy.append(
        {"subject": "open_gauge_print", "twin_of": "material.inner-gloss", "why": "there is air under its cover"}
    )


def _handwheels(world: World) -> None:
    """Handwheels whose colour was wired to their opacity, one of them a hundredth of its size; a grille whose holes are holes."""
    x = STANDS["handwheels"]
    paint = pictures.tinted(world.rng, 256, (176, 62, 42), 8, 0.7)
    grey = paint[..., :3].astype(float) @ [0.2126, 0.7152, 0.0722]
    share = (grey - grey.min()) / (grey.max() - grey.min())
    wired = np.dstack([paint[..., :3], 140 + 110 * share]).astype(np.uint8)
    material = world.material("wheel_paint", wired, roughness=0.6, alpha_mode="BLEND")
    for k in range(5):
        world.add(f"handwheel_{k}", _wheel(1.0), material, (x - 0.9 + 0.45 * k, SHELF + 0.24, -2.9))
    world.add("handwheel_5", _wheel(0.01), material, (x + 1.2, SHELF + 0.01, -2.6))
    grille = world.material(
        "true_grille", pictures.netting(world.rng, (70, 74, 76)), roughness=0.8, alpha_mode="MASK", double_sided=True
    )
    world.add("true_grille", Shape().quad((x - 1.1, 1.75, -3.2), (2.2, 0, 0), (0, 0.6, 0), 0.8), grille)
    world.sown("blend.unjustified", "wheel_paint", [f"handwheel_{k}" for k in range(5)], "colour wired to opacity")
    world.healthy.append(
        {"subject": "true_grille", "twin_of": "blend.unjustified", "why": "its holes are holes, and it is a cutout"}
    )


def _wheel(size: float) -> Shape:
    """A ring with four spokes and a hub; its picture is as fine on a small one as on a large one."""
    wheel = Shape()
    for axis in ((1, 0, 0), (0, 1, 0)):
        end = np.array(axis, float) * 0.165 * size
        wheel.tube(tuple(-end), tuple(end), 0.014 * size, 0.014 * size, 8, tile_m=0.4 * size)
    wheel.ring(np.zeros(3), np.eye(3), 0.18 * size, 0.18 * size, 0.022 * size, 28, 8)
    return wheel.tube((0, 0, -0.03 * size), (0, 0, 0.03 * size), 0.04 * size, 0.04 * size, 12, tile_m=0.4 * size)


def _elbow() -> Shape:
    """A quarter bend with a boss, so that a mirrored one is another."""
    along, around = np.linspace(0, np.pi / 2, 9)[:, None], np.linspace(0, 2 * np.pi, 17)[None, :]
    out = BEND + 0.05 * np.cos(around)  # from the middle of the bend, which lies below its start
    points = np.stack(np.broadcast_arrays(out * np.sin(along), out * np.cos(along) - BEND, -0.05 * np.sin(around)), -1)
    return Shape().sheet(points, (1.0, 1.0)).tube((0.1, 0.0, 0.03), (0.1, 0.0, 0.11), 0.02, 0.02, 8)


def _pipe(world: World) -> None:
    """An air pipe along the wall that comes down at each stand; the last of its elbows is gone, its node is still there."""
    zinc = world.material("air_pipe", base_rgba=(0.42, 0.44, 0.45, 1.0), roughness=0.7, ior=1.0, double_sided=True)
    z = BACK + 0.15
    for k, x in enumerate(STANDS.values()):
        start = -4.6 if k == 0 else list(STANDS.values())[k - 1] + 1.0
        world.add(
            f"air_pipe_{k}", Shape().tube((start, PIPE_Y, z), (x + 1.0 - BEND, PIPE_Y, z), 0.05, 0.05, 16, caps=False), zinc
        )
        down = x + 1.0
        world.add(
            f"down_pipe_{k}", Shape().tube((down, PIPE_Y - BEND, z), (down, SHELF + 0.5, z), 0.05, 0.05, 16, caps=False), zinc
        )
        place = (x + 1.0 - BEND, PIPE_Y, z)
        if k < 2:
            world.add(f"air_elbow_{k}", _elbow(), zinc, place)
        else:
            matrix = np.eye(4)
            matrix[:3, 3] = place
            world.nodes.append(Node(f"air_elbow_{k}", matrix))


def _print(size: int = 256) -> np.ndarray:
    """(size, size, 4) uint8: a dark dial with twenty marks."""
    y, x = (np.mgrid[0:size, 0:size] + 0.5) / size * 2 - 1
    radius, angle = np.hypot(x, y), np.arctan2(y, x)
    marks = (radius > 0.7) & (radius < 0.88) & (np.abs((angle * 10 / np.pi + 0.5) % 1 - 0.5) < 0.1)
    rgb = np.where(marks[..., None], np.array([214, 208, 190]), np.array([52, 18, 16]))
    return np.dstack([rgb, np.full((size, size), 255)]).astype(np.uint8)

"""The healthy part of the station: land, water, pump hall, sluice, reeds, light.

x runs across the river, -z up it, y = 0 is the water.
"""

import math
from itertools import pairwise

import numpy as np

from eddyfall.demo import pictures
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World

QUAY_Y = 2.0


def build_station(world: World) -> None:
    """Everything that has no seeded defect."""
    _settings(world)
    _land(world)
    _water(world)
    _quay(world)
    _hall(world)
    _sluice(world)
    _trees(world)
    _reeds(world)


def _settings(world: World) -> None:
    world.setup.update(
        {
            "eddyfall_setup": 1,
            "depth": {"near_m": 0.1, "format": "unorm24", "copy_from": "prepass"},
            "shadow": {"reach_m": 360, "resolution": 2048},
            "sky": {"zenith_rgb": [1700, 2900, 5600], "horizon_rgb": [5600, 6050, 6500], "ground_rgb": [1250, 1200, 1050]},
            "fog": {"enabled": True, "fog_per_m": 0.003, "rgb": [5700, 6050, 6350], "covers_sky": 0.35},
            "exposure": {"mode": "fixed", "ev100": 13.2},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 68000, "towards": [-0.5, 0.55, 0.67], "rgb": [1.0, 0.94, 0.84]}},
            "roles": {"play": {}, "edit": {"set": {"shadow": {"reach_m": 450}}}},
            "targets": {"kiosk": {}},
            "viewpoints": {
                "quay": {"eye": [-6.8, 3.75, 9.6], "target": [1.0, 3.1, -8.0], "fov_y_deg": 55},
                "landing": {"eye": [-2.6, 4.6, 17.5], "target": [-6.4, 2.4, 2.0], "fov_y_deg": 52},
                "gallery": {"eye": [-5.2, 3.8, -16.0], "target": [-11.5, 4.6, -44.0], "fov_y_deg": 60},
                "far_pier": {"eye": [-3.0, 17.5, 25.0], "target": [9.0, 4.5, -360.0], "fov_y_deg": 12},
                "reed_bed": {"eye": [7.5, 1.7, 24.0], "target": [14.5, 1.0, -14.0], "fov_y_deg": 55},
                "edit_quay": {"eye": [-6.8, 3.75, 9.6], "target": [1.0, 3.1, -8.0], "fov_y_deg": 55, "role": "edit"},
            },
        }
    )  # fmt: skip


def _height(x: np.ndarray, z: np.ndarray, rough: np.ndarray) -> np.ndarray:
    """Ground height in metres: a river bed that widens up-stream, banks, hills at the far end."""

    def step(a: float, b: float, v: np.ndarray) -> np.ndarray:
        t = np.clip((v - a) / (b - a), 0, 1)
        return t * t * (3 - 2 * t)

    widen = step(-120, -210, z)
    left, right = -2.5 - 70 * widen, 44 + 50 * widen
    inside = step(0, 10, x - left) * step(0, 16, right - x)
    inside *= 1 - step(-418, -432, z)
    bank = 1.7 + 2.2 * rough + 10 * step(40, 160, x - right) * (0.5 + rough) + 4 * step(60, 160, left - x) * (0.4 + rough)
    bank += step(-430, -520, z) * (9 + 16 * rough)
    under_quay = (x < 1) & (x > -60) & (z > -118)
    bank = np.where(under_quay, np.minimum(bank, 1.4), bank)
    return np.asarray(bank * (1 - inside) + (-2.6 - rough) * inside)


def _land(world: World) -> None:
    rng = world.rng
    grass = world.material("grass", pictures.tinted(rng, 512, (104, 112, 62), 8, 0.35, 0.12), roughness=0.95)
    x, z = np.linspace(-300, 380, 171), np.linspace(60, -580, 161)
    gx, gz = np.meshgrid(x, z)
    rough = pictures.noise(rng, 256, 16, 4)
    sampled = rough[(np.abs(gz * 0.6).astype(int)) % 256, (np.abs(gx * 0.6 + 180).astype(int)) % 256]
    y = _height(gx, gz, sampled)
    world.add("land", Shape().sheet(np.stack([gx, y, gz], -1), (170.0, 160.0)), grass, casts=False)


def _water(world: World) -> None:
    normal = world.image("ripples", pictures.ripples(world.rng))
    from eddyfall.core.scene.model import TextureUse

    water = world.material(
        "water",
        base_rgba=(0.035, 0.06, 0.06, 0.86),
        alpha_mode="BLEND",
        roughness=0.16,
        normal_texture=TextureUse(normal),
        normal_scale=0.35,
    )
    world.add("river", Shape().quad((-300, 0, 60), (680, 0, 0), (0, 0, -640), 5.0), water)


def _quay(world: World) -> None:
    rng = world.rng
    stone = world.material("quay_stone", pictures.ashlar(rng, (150, 146, 136)), roughness=0.9)
    cope = world.material("cope_stone", pictures.ashlar(rng, (186, 180, 166), 2), roughness=0.8)
    iron = world.material("iron", base_rgba=(0.05, 0.05, 0.055, 1), roughness=0.45, metallic=0.6)
    world.add("quay", Shape().box((-60, -3, -118), (-0.8, QUAY_Y, 34), 2.4, "xXYzZ"), stone)
    world.add("cope", Shape().box((-0.9, -3, -118.2), (0.0, QUAY_Y + 0.14, 34.2), 1.6, "xXYzZ"), cope)
    bollards = Shape()
    chains = Shape()
    spots = [6.0 - 9.0 * i for i in range(8)]
    for z in spots:
        bollards.tube((-1.6, QUAY_Y - 0.02, z), (-1.6, QUAY_Y + 0.62, z), 0.2, 0.16, 14)
        bollards.tube((-1.6, QUAY_Y + 0.6, z), (-1.6, QUAY_Y + 0.78, z), 0.25, 0.21, 14)
    for a, b in pairwise(spots):
        _hang_chain(chains, (-1.6, QUAY_Y + 0.52, a - 0.2), (-1.6, QUAY_Y + 0.52, b + 0.2), 0.36, 44)
    world.add("bollards", bollards, iron)
    world.add("mooring_chains", chains, iron)


def _hang_chain(shape: Shape, a: tuple[float, float, float], b: tuple[float, float, float], sag: float, links: int) -> None:
    start, end = np.array(a), np.array(b)
    t = np.linspace(0, 1, links)
    points = start + (end - start) * t[:, None]
    points[:, 1] -= sag * 4 * t * (1 - t)
    tangent = np.gradient(points, axis=0)
    tangent /= np.linalg.norm(tangent, axis=1, keepdims=True)
    spacing = float(np.linalg.norm(points[1] - points[0]))
    for i in range(links):
        side = np.cross(tangent[i], [0, 1, 0]) if i % 2 else np.array([0.0, 1.0, 0.0])
        side = side - tangent[i] * (side @ tangent[i])
        side /= np.linalg.norm(side)
        shape.ring(
            points[i], np.array([tangent[i], side, np.cross(tangent[i], side)]), spacing * 0.62, spacing * 0.36, spacing * 0.115
        )


def _hall(world: World) -> None:
    rng = world.rng
    brick = world.material("brick", pictures.brick(rng), roughness=0.92)
    trim = world.material("trim_stone", pictures.ashlar(rng, (176, 168, 152)), roughness=0.85)
    slate = world.material("slate", pictures.slates(rng), roughness=0.6)
    glass = world.material("window_glass", base_rgba=(0.02, 0.03, 0.035, 1), roughness=0.12)
    door = world.material("door_paint", pictures.planks(rng, (36, 84, 78)), roughness=0.5)
    y0, eaves, ridge = QUAY_Y - 0.3, QUAY_Y + 8.2, QUAY_Y + 12.0
    xa, xb, za, zb = -26.0, -12.0, -66.0, -30.0
    walls = Shape().box((xa, y0, za), (xb, eaves, zb), 0.9, "xXzZ")
    mid = (xa + xb) / 2
    for z, flip in ((zb, False), (za, True)):
        corners = [(xa, eaves, z), (xb, eaves, z), (mid, ridge, z)]
        if flip:
            corners = [corners[1], corners[0], corners[2]]
        p = np.array(corners, float)
        n = np.cross(p[1] - p[0], p[2] - p[0])
        walls.add(p, np.tile(n / np.linalg.norm(n), (3, 1)), p[:, :2] / 0.9 * np.array([1, -1]), np.array([[0, 1, 2]]))
    world.add("pump_hall", walls, brick)
    roof = Shape()
    over, thick = 0.7, 0.22
    for side, x_low in ((1, xb), (-1, xa)):
        slope = (eaves - ridge) / abs(x_low - mid)
        x_edge = x_low + side * over
        y_edge = eaves + slope * over
        top_a, top_b = (x_edge, y_edge + thick, za - over), (x_edge, y_edge + thick, zb + over)
        rise = (mid - x_edge, ridge - y_edge, 0.0)
        if side > 0:
            roof.quad(top_b, (0, 0, top_a[2] - top_b[2]), rise, 2.0)
            roof.quad((x_edge, y_edge, zb + over), (0, 0, top_a[2] - top_b[2]), (0, thick, 0), 2.0)
        else:
            roof.quad(top_a, (0, 0, top_b[2] - top_a[2]), rise, 2.0)
            roof.quad((x_edge, y_edge, za - over), (0, 0, top_b[2] - top_a[2]), (0, thick, 0), 2.0)
        under_a = (x_edge, y_edge, zb + over) if side < 0 else (x_edge, y_edge, za - over)
        roof.quad(under_a, (0, 0, (za - zb - 2 * over) * (1 if side < 0 else -1)), rise, 2.0)
        for z, sign in ((zb + over, 1), (za - over, -1)):
            start = (x_edge, y_edge, z)
            if side * sign < 0:
                roof.quad(start, rise, (0, thick, 0), 2.0)
            else:
                roof.quad((mid, ridge, z), (-rise[0], -rise[1], 0), (0, thick, 0), 2.0)
    world.add("hall_roof", roof, slate)
    panes, frames = Shape(), Shape()
    for i in range(7):
        z = za + 3.4 + i * 4.75
        _window(panes, frames, xb, z, QUAY_Y + 2.6, 1.7, 4.0)
    world.add("hall_windows", panes, glass)
    world.add("hall_frames", frames, trim)
    plinth = Shape().box((xa - 0.25, y0, za - 0.25), (xb + 0.25, QUAY_Y + 0.9, zb + 0.25), 1.6, "xXYzZ")
    plinth.box((xa - 0.18, eaves - 0.9, za - 0.18), (xb + 0.18, eaves - 0.45, zb + 0.18), 1.6, "xXyYzZ")
    world.add("hall_plinth", plinth, trim)
    world.add("hall_door", Shape().box((mid - 1.7, QUAY_Y, zb - 0.1), (mid + 1.7, QUAY_Y + 4.2, zb + 0.34), 2.0, "xXYZ"), door)
    tower = Shape().box((-15.5, y0, -72.0), (-9.8, QUAY_Y + 17.5, -66.5), 0.9, "xXzZ")
    world.add("tower", tower, brick)
    cap = Shape().box((-15.9, QUAY_Y + 17.5, -72.4), (-9.4, QUAY_Y + 18.3, -66.1), 1.6)
    cap.box((-16.1, QUAY_Y + 12.0, -72.6), (-9.2, QUAY_Y + 12.5, -65.9), 1.6)
    world.add("tower_cap", cap, trim)
    world.add(
        "tower_roof", Shape().tube((-12.65, QUAY_Y + 18.28, -69.25), (-12.65, QUAY_Y + 23.5, -69.25), 4.4, 0.02, 4, 2.0), slate
    )
    louvre = Shape()
    frame = Shape()
    _window(louvre, frame, -9.8, -69.2, QUAY_Y + 13.2, 1.5, 3.0)
    world.add("tower_louvre", louvre, glass)
    world.add("tower_frame", frame, trim)
    stack = Shape().tube((-22.5, y0, -58.0), (-22.5, QUAY_Y + 30, -58.0), 2.0, 1.25, 28, 0.9, False)
    world.add("chimney", stack, brick)
    world.add("chimney_cap", Shape().tube((-22.5, QUAY_Y + 29.4, -58.0), (-22.5, QUAY_Y + 30.6, -58.0), 1.5, 1.65, 28, 1.6), trim)


def _window(panes: Shape, frames: Shape, x: float, z: float, y: float, wide: float, high: float) -> None:
    """A tall window on a wall that faces +x: recessed look from a stone frame around a dark pane."""
    panes.quad((x + 0.05, y, z + wide / 2), (0, 0, -wide), (0, high, 0), 1.0)
    for a, b in ((z - wide / 2 - 0.22, z - wide / 2), (z + wide / 2, z + wide / 2 + 0.22), (z - 0.05, z + 0.05)):
        frames.box((x - 0.1, y - 0.2, a), (x + 0.16, y + high + 0.25, b), 1.6, "XyYzZ")
    frames.box((x - 0.1, y - 0.34, z - wide / 2 - 0.3), (x + 0.26, y - 0.12, z + wide / 2 + 0.3), 1.6, "XyYzZ")
    frames.box((x - 0.1, y + high + 0.1, z - wide / 2 - 0.24), (x + 0.2, y + high + 0.42, z + wide / 2 + 0.24), 1.6, "XyYzZ")
    frames.box(
        (x - 0.1, y + high * 0.62, z - wide / 2 - 0.04), (x + 0.12, y + high * 0.62 + 0.09, z + wide / 2 + 0.04), 1.6, "XyYzZ"
    )


def _sluice(world: World) -> None:
    rng = world.rng
    stone = world.material("pier_stone", pictures.ashlar(rng, (168, 164, 154)), roughness=0.88)
    paint = world.material("gate_paint", pictures.tinted(rng, 256, (58, 118, 104), 12, 0.22), roughness=0.45)
    steel = world.material("gate_steel", base_rgba=(0.07, 0.075, 0.08, 1), roughness=0.5, metallic=0.5)
    piers, beams, leaves, gear = Shape(), Shape(), Shape(), Shape()
    xs = [3.0, 16.0, 29.0, 42.0]
    z = -78.0
    for x in xs:
        piers.box((x - 1.1, -4, z - 3.4), (x + 1.1, 7.4, z + 3.4), 2.4, "xXYzZ")
        piers.tube((x, -4, z + 3.4), (x, 5.2, z + 3.4), 1.1, 1.1, 20, 2.4)
        gear.box((x - 0.55, 7.3, z + 1.8), (x + 0.55, 8.6, z + 2.7), 1.0, "xXYzZ")
    beams.box((-1.2, 7.3, z - 3.0), (44.5, 8.2, z + 1.2), 1.2)
    for y in (8.55, 8.95, 9.3):
        beams.tube((-1.0, y, z + 1.0), (44.3, y, z + 1.0), 0.035, 0.035, 6)
    for i in range(24):
        beams.tube((-1.0 + i * 1.97, 8.15, z + 1.0), (-1.0 + i * 1.97, 9.32, z + 1.0), 0.04, 0.04, 6)
    for i, (a, b) in enumerate(pairwise(xs)):
        lift = 0.6 + 0.5 * i
        leaves.box((a + 1.14, lift - 2.4, z - 0.2), (b - 1.14, lift + 3.6, z + 0.1), 1.5)
        for k in range(8):
            x = a + 1.6 + k * (b - a - 3.2) / 7
            leaves.box((x - 0.09, lift - 2.3, z + 0.08), (x + 0.09, lift + 3.5, z + 0.42), 1.0, "xXyYZ")
        for k in range(4):
            leaves.box((a + 1.2, lift - 1.9 + 1.6 * k, z + 0.09), (b - 1.2, lift - 1.7 + 1.6 * k, z + 0.5), 1.0, "xXyYZ")
        for x in (a + 2.2, b - 2.2):
            gear.tube((x, lift + 3.5, z - 0.05), (x, 7.4, z - 0.05), 0.08, 0.08, 8)
    world.add("sluice_piers", piers, stone)
    world.add("sluice_beams", beams, paint)
    world.add("sluice_gates", leaves, paint)
    world.add("sluice_gear", gear, steel)


def _trees(world: World) -> None:
    rng = world.rng
    leaves = world.material("leaves", pictures.tinted(rng, 256, (62, 84, 40), 24, 0.5, 0.2), roughness=0.95)
    bark = world.material("bark", pictures.tinted(rng, 128, (78, 66, 54), 8, 0.3), roughness=0.95)
    for name, count, spread in (("bank_trees", 46, ((56, 150), (-210, 30))), ("far_trees", 150, ((-240, 330), (-545, -446)))):
        crowns, trunks = Shape(), Shape()
        for _ in range(count):
            x, z = rng.uniform(*spread[0]), rng.uniform(*spread[1])
            ground = float(_height(np.array(x), np.array(z), np.array(0.5)))
            high = rng.uniform(6, 11)
            trunks.tube((x, ground - 2.5, z), (x, ground + high * 0.5, z), 0.3, 0.18, 6, 1.0, False)
            for _ in range(3):
                o = rng.normal(0, high * 0.16, 3)
                crowns.blob((x + o[0], ground + high * 0.66 + o[1], z + o[2]), (high * 0.32, high * 0.3, high * 0.32), rng)
        world.add(name, crowns, leaves, casts=name == "bank_trees")
        world.add(f"{name}_trunks", trunks, bark, casts=name == "bank_trees")


def _reeds(world: World) -> None:
    """The healthy twin of the nets: thin things that are in the depth prepass."""
    world.entry("shaders", "reed_leaf")["passes"] = {"colour": True, "depth": True, "shadow": True}
    rng = world.rng
    reed = world.material(
        "reeds", pictures.tinted(rng, 64, (136, 132, 66), 8, 0.3), double_sided=True, roughness=0.9, shader="reed_leaf"
    )
    blades = Shape()
    for _ in range(5200):
        x = rng.uniform(3.2, 30)
        z = rng.uniform(-30, 14) + 4 * math.sin(x)
        if (x - 10) ** 2 / 90 + (z + 8) ** 2 / 500 > rng.uniform(0.4, 1.1):
            continue
        high, lean, turn = rng.uniform(0.9, 2.1), rng.normal(0, 0.25, 2), rng.uniform(0, math.pi)
        across = np.array([math.cos(turn), 0, math.sin(turn)]) * rng.uniform(0.012, 0.022)
        base = np.array([x, -0.4, z])
        path = [base + np.array([lean[0] * t * t, (high + 0.4) * t, lean[1] * t * t]) for t in (0.0, 0.4, 0.75, 1.0)]
        widths = (1.0, 0.9, 0.6, 0.05)
        points = np.concatenate([[p - across * w, p + across * w] for p, w in zip(path, widths)])
        normal = np.cross(across, [0, 1, 0]) + np.array([0, 0.012, 0])
        tri = np.array([[0, 1, 3], [0, 3, 2], [2, 3, 5], [2, 5, 4], [4, 5, 7], [4, 7, 6]])
        uv = np.array([[c, 1 - r] for r in (0, 0.4, 0.75, 1.0) for c in (0.1, 0.9)])
        blades.add(points, np.tile(normal / np.linalg.norm(normal), (8, 1)), uv, tri)
    world.add("reed_bed", blades, reed)
    world.healthy.append({"subject": "reed_bed", "twin_of": "depth.missing-prepass", "why": "its shader has a depth pass"})

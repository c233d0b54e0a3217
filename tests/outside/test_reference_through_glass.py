"""The reference's paths through panes, bodies and mist: against mitsuba (3.9.1, scalar_rgb), Fresnel's equations, Snell's law, and the law
of Beer and Lambert."""

import math

import mitsuba as mi
import numpy as np
import pytest

from eddyfall.core.frame.render import Request
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Image, Light, Material, TextureUse
from eddyfall.core.shade.optics import fresnel, slab, slab_shift, stacked
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.of_frame import Wanted, compare, reference_of
from eddyfall.core.truth.reference.trace import Asked
from eddyfall.demo.shapes import Shape
from glass_scenes import FRONT, behind_panes, clear, pane, two_panes
from layer_scenes import EXACT, card, unlit
from scenes import Thing, build_of
from sizes import of_many

mi.set_variant("scalar_rgb")
SIZE, MIDDLE = (240, 136), (119, 67, 121, 69)
RGB = (0.6, 0.85, 0.8)
TINTED = {"thickness_m": 0.03, "attenuation_m": 0.1, "attenuation_rgb": RGB}
LAMBERT = {"metallic": 0.0, "ior": 1.0}


def seen(renderer, build, samples=4096, crop=MIDDLE, size=SIZE, **asked):
    """(nits (3,), their standard error) of a crop's reference."""
    wanted = Wanted(request=Request("eye", size, crop), samples=samples, asked=Asked(**asked))
    tally = reference_of(renderer, build, wanted).tally
    return tally.radiance.mean(axis=0), float(np.sqrt((tally.error**2).sum()) / len(tally.error))


@pytest.mark.parametrize("panes", [1, 2])
def test_thin_panes_let_by_what_all_reflections_leave(renderer, panes):
    """One: (1 - r) / (1 + r) = .9231; two: .857. The stand-in's (1 - r)^2 each is beside it in the account."""
    build = two_panes({"layers": 2}) if panes == 2 else behind_panes(pane("near_pane", -2.0, clear()))
    told = compare(renderer, build, Wanted(request=Request("eye", SIZE, MIDDLE), samples=4096))
    due, error = 0.5 * float(stacked([slab(fresnel(1.0, 1.5))] * panes)), told.account.error
    assert told.account.reference == pytest.approx(due, abs=4 * error)
    assert told.account.standin == pytest.approx(0.5 * 0.9216**panes, rel=1e-4)
    rows = {row.part: row.luminance for row in told.account.rows}
    assert rows["transmission"] == pytest.approx(0.5 * 0.9216**panes - due, abs=4 * error)
    assert sum(abs(v) for name, v in rows.items() if name != "transmission") < 1e-6


@pytest.mark.parametrize("closed", [False, True])
def test_thirty_millimetres_of_tinted_glass(renderer, closed):
    """(.792, .879, .863), whether a sheet stands for them or a body has them."""
    box = Thing("slab", Shape().box((-2, -1, -2.03), (2, 3, -2.0)), clear(**TINTED))
    build = behind_panes(box if closed else pane("slab", -2.0, clear(**TINTED)))
    nits, error = seen(renderer, build)
    np.testing.assert_allclose(nits / 0.5, (0.792, 0.879, 0.863), atol=4 * error / 0.5 + 6e-4)


def test_a_slab_at_45_degrees_moves_what_is_behind(renderer):
    """10 mm of index 1.5 move the line of sight by 3.29 mm (Hecht, Optics 4.4), which 12 m off, in 1080 rows of 60 degrees, is .257 px."""
    s, width, height = math.sqrt(0.5), 1920, 1080
    glass = Thing("slab", Shape().quad((-s * 0.5, 1.1, -2 - s * 0.5), (s, 0, s), (0, 1, 0)), clear(thickness_m=0.01))
    banks = [
        card("left", (-30, 0), (-20, 22), -12.0, unlit("left", 1.0)),
        card("right", (0, 30), (-20, 22), -12.0, unlit("right", 0.0)),
    ]
    views = {"eye": {"eye": [0, 1.6, 0], "target": [0, 1.6, -1], "fov_y_deg": 60}}
    widths = []
    for things in (banks, [*banks, glass]):
        build = build_of(*things, setup={"viewpoints": views, "refract": {"enabled": True}, **EXACT})
        wanted = Wanted(request=Request("eye", (width, height), (956, 540, 964, 541)), samples=4096, asked=Asked(spread=True))
        light = reference_of(renderer, build, wanted).tally.radiance[:, 0]
        widths.append(light.sum() / light[0])  # px of the left bank
    of_pixel = 12 * 2 * math.tan(math.radians(30)) / height
    assert slab_shift(0.01, s, 1.5) == pytest.approx(0.00329, abs=1e-5)
    assert (
        abs(widths[1] - widths[0])
        == pytest.approx(slab_shift(0.01, s, 1.5) / of_pixel, abs=0.03)
        == pytest.approx(0.257, abs=0.03)
    )


@pytest.mark.parametrize(("z", "due"), [(-16.0, 0.650), (-4.0, 0.691), (-10.0, 0.652)])
def test_mist_before_behind_and_around_a_sheet(renderer, z, due):
    """Optical depth 2.4 of radiance .66, a sheet of .8, half open, over .2: wherever the sheet is, what each stretch leaves."""
    mist, sheet = Thing("mist", Shape().box((-30, -20, -14), (30, 22, -6)), unlit("mist", 0.0)), unlit("sheet", 0.8, 0.4)
    build = build_of(
        card("bank", (-60, 60), (-40, 42), -20.0, unlit("bank", 0.2)), mist, card("sheet", (-30, 30), (-20, 22), z, sheet),
        setup={"viewpoints": FRONT, "volumes": {"m": {"node": "mist", "per_m": 0.3, "rgb": [0.66] * 3}}, **EXACT},
    )  # fmt: skip
    nits, error = seen(renderer, build)
    tau = {-16.0: (2.4, 0.0), -4.0: (0.0, 2.4), -10.0: (1.2, 1.2)}[z]
    behind = 0.2
    if z == -16.0:
        behind = 0.6 * behind + 0.4 * 0.8
    behind = behind * math.exp(-tau[1]) + 0.66 * (1 - math.exp(-tau[1])) if z != -16.0 else behind
    if z != -16.0:
        behind = 0.6 * behind + 0.4 * 0.8
    worked = behind * math.exp(-tau[0]) + 0.66 * (1 - math.exp(-tau[0]))
    assert nits[0] == pytest.approx(worked, abs=4 * error + 1e-6)
    assert worked == pytest.approx(due, abs=6e-4) or z == -16.0


def lit_floor(*things, towards=(0.0, 1.0, 0.0), **setup):
    """A white floor under a sun of 3.14 lx, seen askew, things above it."""
    floor = Thing("floor", Shape().quad((-5, 0, 5), (10, 0, 0), (0, 0, -10)), Material("floor", (1.0, 1.0, 1.0, 1.0), **LAMBERT))
    return build_of(
        floor, *things,
        setup={
            "viewpoints": {"eye": {"eye": [0, 0.6, 1.2], "target": [0, 0, 0], "fov_y_deg": 20}}, "exposure": {"mode": "off"},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": math.pi, "towards": list(towards)}}, "sky": {"ambient": False}, **setup,
        },
    )  # fmt: skip


@pytest.mark.parametrize("kind", ["pane", "tinted", "cloth", "mist", "body"])
def test_what_a_sun_loses_on_its_way(renderer, kind):
    """A pane leaves (1 - r)^2 of it, its colour; cloth of alpha .6 leaves .4; mist what Beer and Lambert say; a body what it takes up."""

    def over(material):
        return Thing("over", Shape().quad((-4, 2, 4), (8, 0, 0), (0, 0, -8)), material)

    body = Thing("over", Shape().box((-4, 2.0, -4), (4, 2.03, 4)), clear(**TINTED))
    mist = Thing("mist", Shape().box((-4, 2, -4), (4, 4, 4)), unlit("mist", 0.0))
    build, left = {
        "pane": lambda: (lit_floor(over(clear())), 0.9216),
        "tinted": lambda: (lit_floor(over(clear(rgb=(0.5, 0.8, 1.0)))), np.array([0.5, 0.8, 1.0]) * 0.9216),
        "cloth": lambda: (lit_floor(over(unlit("cloth", 0.0, 0.6))), 0.4),
        "mist": lambda: (lit_floor(mist, volumes={"m": {"node": "mist", "per_m": 0.5, "rgb": [0, 0, 0]}}), math.exp(-1.0)),
        "body": lambda: (lit_floor(body), np.array([c**0.3 for c in RGB]) * 0.9216),
    }[kind]()
    nits, _ = seen(renderer, build, samples=2, bounces=0)
    np.testing.assert_allclose(nits, np.ones(3) * left, rtol=2e-3)


def lit_by_a_panel(glass, **setup):
    """A white floor under a panel that shines, glass between the two; nothing else shines."""
    images = (Image("smooth", freeze(np.zeros((2, 2, 4), np.uint8))),)
    panel = Material("panel", (0.0, 0.0, 0.0, 1.0), emissive=(50.0, 50.0, 50.0), **LAMBERT)
    floor = Thing("floor", Shape().quad((-5, 0, 5), (10, 0, 0), (0, 0, -10)), Material("floor", (1.0, 1.0, 1.0, 1.0), **LAMBERT))
    return build_of(
        floor, Thing("panel", Shape().quad((-0.5, 2.5, -0.5), (1, 0, 0), (0, 0, 1)), panel), glass, images=images,
        setup={
            "viewpoints": {"eye": {"eye": [0, 0.6, 1.2], "target": [0, 0, 0], "fov_y_deg": 20}}, "exposure": {"mode": "off"},
            "sky": {"ambient": False}, **setup,
        },
    )  # fmt: skip


@pytest.mark.long
@pytest.mark.parametrize("kind", ["a body that is not to cast", "a pane that only its picture makes smooth"])
def test_what_shines_is_counted_once_through_glass(renderer, kind):
    """Asked for and met by chance, light through glass is the same light: whatever the node says of shadows, wherever a picture takes the
    roughness away."""
    block, sheet = Shape().box((-2, 1.0, -2), (2, 1.2, 2)), Shape().quad((-2, 1, 2), (4, 0, 0), (0, 0, -4))
    if "body" in kind:
        build = lit_by_a_panel(Thing("glass", block, clear(thickness_m=0.2)))
        other = lit_by_a_panel(Thing("glass", block, clear(thickness_m=0.2)), nodes={"glass": {"casts": False}})
    else:
        build = lit_by_a_panel(Thing("glass", sheet, clear()))
        other = lit_by_a_panel(Thing("glass", sheet, clear(roughness=0.5, metallic_roughness_texture=TextureUse(0))))
    (due, error), (same, noise) = (seen(renderer, b, samples=1024, crop=(100, 50, 140, 86), bounces=0) for b in (build, other))
    assert due[0] > 0.5 and same[0] == pytest.approx(due[0], abs=4 * math.hypot(error, noise))


def test_fog_lies_before_a_pane_and_behind_it(renderer):
    """10 m of fog before a pane, 2 m behind: what lies behind the pane, its fog too, comes through it."""
    per_m, glow = 0.1, 0.4
    build = behind_panes(
        pane("pane", -10.0, clear(), (-9, 9), (-7, 9)), fog={"enabled": True, "fog_per_m": per_m, "rgb": [glow] * 3}
    )
    nits, error = seen(renderer, build)
    near, far, k = math.exp(-10 * per_m), math.exp(-2 * per_m), float(slab(fresnel(1.0, 1.5))[1])
    assert nits[0] == pytest.approx(glow * (1 - near) + near * k * (0.5 * far + glow * (1 - far)), abs=4 * error)


# Rooms made at random

ROOM, BOUNCES, SAMPLES, BATCHES = (32, 18), 24, 256, 8
EYE, TARGET = (0.4, 1.6, 1.8), (-0.2, 1.1, -2.0)
LOW, HIGH = np.array([-2.0, 0.0, -3.0]), np.array([2.0, 2.8, 2.5])


class GlassRoom:
    """Grey walls, a lit panel, a block of tinted glass, a ground one, and a pane across half of the view; for both renderers."""

    def __init__(self, seed):
        g = np.random.default_rng(seed)
        self.walls = [tuple(g.uniform(0.1, 0.5, 3)) for _ in range(6)]
        self.blocks = []
        for ground in (False, True):
            size, x, z = g.uniform(0.3, 0.6, 3), g.uniform(-1.2, 1.2), g.uniform(-2.3, -0.3)
            low, high = (x - size[0], 0.01, z - size[2]), (x + size[0], 2 * size[1], z + size[2])
            self.blocks.append((low, high, tuple(g.uniform(0.5, 0.95, 3)), 0.5 if ground else 0.0))
        self.panel, self.nits = (g.uniform(-1.0, 0.0), g.uniform(-2.0, 0.0)), tuple(g.uniform(200, 600, 3))
        self.pane = ((0.2, 0.4, 0.6), (1.7, 0, 0), (0, 2.0, 0))

    def faces(self):
        (x0, y0, z0), (x1, y1, z1) = LOW, HIGH
        return [
            ((x0, y0, z1), (x1 - x0, 0, 0), (0, 0, z0 - z1)), ((x0, y1, z0), (x1 - x0, 0, 0), (0, 0, z1 - z0)),
            ((x0, y0, z0), (x1 - x0, 0, 0), (0, y1 - y0, 0)), ((x1, y0, z1), (x0 - x1, 0, 0), (0, y1 - y0, 0)),
            ((x0, y0, z1), (0, 0, z0 - z1), (0, y1 - y0, 0)), ((x1, y0, z0), (0, 0, z1 - z0), (0, y1 - y0, 0)),
        ]  # fmt: skip

    def lit_face(self):
        return (self.panel[0], HIGH[1] - 0.05, self.panel[1]), (0.9, 0, 0), (0, 0, 0.9)

    def ours(self):
        things = [
            Thing(f"wall{i}", Shape().quad(*f), Material(f"wall{i}", (*self.walls[i], 1.0), **LAMBERT))
            for i, f in enumerate(self.faces())
        ]
        for n, (low, high, rgb, rough) in enumerate(self.blocks):
            glass = clear(
                f"glass{n}", thickness_m=0.1, attenuation_m=0.5, attenuation_rgb=rgb, roughness=rough, double_sided=False
            )
            things.append(Thing(f"block{n}", Shape().box(low, high), glass))
        things.append(Thing("pane", Shape().quad(*self.pane), clear("pane")))
        panel = Material("panel", (0.0, 0.0, 0.0, 1.0), emissive=self.nits, **LAMBERT)
        things.append(Thing("panel", Shape().quad(*self.lit_face()), panel))
        return build_of(
            *things, lamps=((Light("lamp", "point", intensity=0.0), (0, 2, 0)),),
            setup={"viewpoints": {"eye": {"eye": list(EYE), "target": list(TARGET), "fov_y_deg": 60}}, "sky": {"ambient": False}},
        )  # fmt: skip

    def theirs(self):
        def quad(o, u, v, **more):
            o, u, v = (np.array(a, float) for a in (o, u, v))
            props = mi.Properties()
            for name, value in more.items():
                props[name] = mi.load_dict(value)
            mesh = mi.Mesh("quad", 4, 2, props=props)
            params = mi.traverse(mesh)
            params["vertex_positions"] = np.ravel([o, o + u, o + u + v, o + v]).astype(np.float32)
            params["faces"] = np.array([0, 1, 2, 0, 2, 3], np.uint32)
            params.update()
            return mesh

        def rgb(value):
            return {"type": "rgb", "value": list(value)}

        scene = {
            "type": "scene", "integrator": {"type": "volpathmis", "max_depth": 60, "rr_depth": 12},
            "sensor": {
                "type": "perspective", "fov": 60, "fov_axis": "y",
                "to_world": mi.ScalarTransform4f().look_at(origin=list(EYE), target=list(TARGET), up=[0, 1, 0]),
                "film": {"type": "hdrfilm", "width": ROOM[0], "height": ROOM[1], "rfilter": {"type": "box"}, "pixel_format": "rgb"},
                "sampler": {"type": "independent", "sample_count": 100},
            },
        }  # fmt: skip
        for i, face in enumerate(self.faces()):
            scene[f"wall{i}"] = quad(*face, mesh_bsdf={"type": "diffuse", "reflectance": rgb(self.walls[i])})
        for n, (low, high, colour, rough) in enumerate(self.blocks):
            middle, half = (np.array(low) + high) / 2, (np.array(high) - low) / 2
            kind = {"type": "roughdielectric", "distribution": "ggx", "alpha": rough**2} if rough else {"type": "dielectric"}
            scene[f"block{n}"] = {
                "type": "cube", "bsdf": {**kind, "int_ior": 1.5, "ext_ior": 1.0},
                "to_world": mi.ScalarTransform4f().translate(middle.tolist()).scale(half.tolist()),
                "interior": {
                    "type": "homogeneous", "albedo": rgb((0, 0, 0)), "sigma_t": rgb([-math.log(c) / 5 for c in colour]), "scale": 10.0,
                },
            }  # fmt: skip
        scene["pane"] = quad(*self.pane, mesh_bsdf={"type": "thindielectric", "int_ior": 1.5, "ext_ior": 1.0})
        scene["panel"] = quad(
            *self.lit_face(), mesh_bsdf={"type": "diffuse", "reflectance": rgb((0, 0, 0))},
            mesh_emitter={"type": "area", "radiance": rgb(self.nits)},
        )  # fmt: skip
        made = mi.load_dict(scene)
        return np.array([np.array(mi.render(made, seed=seed))[..., :3].reshape(-1, 3) for seed in range(BATCHES)])


@pytest.mark.parametrize("seed", range(of_many(2, 1)))
def test_a_room_with_glass_in_it_agrees(renderer, seed):
    room = GlassRoom(seed)
    wanted = Wanted(request=Request("eye", ROOM), samples=SAMPLES, asked=Asked(bounces=BOUNCES, spread=True))
    ours, batches = reference_of(renderer, room.ours(), wanted).tally, room.theirs()
    theirs, calm = batches.mean(axis=0), ~ours.silhouette
    their_error = (batches @ REC709_LUMA).std(axis=0, ddof=1) / math.sqrt(BATCHES)
    error = float(np.sqrt((ours.error**2).sum() + (their_error**2).sum())) / len(ours.error) / float(ours.luminance.mean())
    print(ours.radiance.mean(axis=0), theirs.mean(axis=0), error)
    assert ours.radiance.mean(axis=0) == pytest.approx(theirs.mean(axis=0), rel=0.01 + 2 * error)
    off = np.abs(ours.luminance - theirs @ REC709_LUMA)
    share = np.mean(off[calm] <= 2 * np.hypot(ours.error, their_error)[calm] + 1e-3 * theirs.mean())
    print(share)
    assert share >= 0.93

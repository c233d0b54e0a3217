"""The reference against mitsuba's path tracer (3.9.1, scalar_rgb) in rooms made at random: walls, boxes, a lit panel, a lamp, a sun."""

import math

import mitsuba as mi
import numpy as np
import pytest

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.model import Light, Material
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.path_scene import path_scene
from eddyfall.core.truth.reference.tally import Tally
from eddyfall.core.truth.reference.trace import Asked, grow
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of
from sizes import of_many

mi.set_variant("scalar_rgb")
SIZE, FOV, BOUNCES, SAMPLES, BATCHES = (48, 27), 60.0, 3, 192, 8
EYE, TARGET = (0.4, 1.6, 1.8), (-0.2, 1.1, -2.0)
LOW, HIGH = np.array([-2.0, 0.0, -3.0]), np.array([2.0, 2.8, 2.5])
METAL_ROUGH = math.sqrt(0.15)  # its Smith term is separable: up to alpha .15 the two differ by .3 % only


class Room:
    """One room, for both renderers. Every third box is a metal that reflects everything."""

    def __init__(self, seed: int) -> None:
        rng = np.random.default_rng(seed)
        self.walls = [tuple(rng.uniform(0.1, 0.8, 3)) for _ in range(6)]
        self.boxes = []
        for i in range(3):
            size, x, z = rng.uniform(0.25, 0.6, 3), rng.uniform(-1.3, 1.3), rng.uniform(-2.4, -0.3)
            self.boxes.append(
                (
                    (x - size[0], 0.0, z - size[2]),
                    (x + size[0], 2 * size[1], z + size[2]),
                    tuple(rng.uniform(0.1, 0.8, 3)),
                    i == 2,
                )
            )
        self.panel = (rng.uniform(-1.0, 0.5), rng.uniform(-2.0, 0.5), rng.uniform(0.5, 1.0), rng.uniform(0.5, 1.0))
        self.panel_nits = tuple(rng.uniform(200, 600, 3))
        self.lamp, self.candela = (
            (rng.uniform(-1.5, 1.5), rng.uniform(1.8, 2.5), rng.uniform(-2.5, 1.0)),
            float(rng.uniform(20, 120)),
        )

    def faces(self):
        """(origin, u, v, wall) of the six walls, seen from within."""
        (x0, y0, z0), (x1, y1, z1) = LOW, HIGH
        return [
            ((x0, y0, z1), (x1 - x0, 0, 0), (0, 0, z0 - z1), 0), ((x0, y1, z0), (x1 - x0, 0, 0), (0, 0, z1 - z0), 1),
            ((x0, y0, z0), (x1 - x0, 0, 0), (0, y1 - y0, 0), 2), ((x1, y0, z1), (x0 - x1, 0, 0), (0, y1 - y0, 0), 3),
            ((x0, y0, z1), (0, 0, z0 - z1), (0, y1 - y0, 0), 4), ((x1, y0, z0), (0, 0, z1 - z0), (0, y1 - y0, 0), 5),
        ]  # fmt: skip

    def lit_face(self):
        x, z, w, d = self.panel
        return (x, HIGH[1] - 0.05, z), (w, 0, 0), (0, 0, d)

    def ours(self):
        lambert = {"metallic": 0.0, "ior": 1.0}
        things = [
            Thing(f"wall{i}", Shape().quad(o, u, v), Material(f"wall{i}", (*self.walls[i], 1.0), **lambert))
            for o, u, v, i in self.faces()
        ]
        for n, (low, high, rgb, metal) in enumerate(self.boxes):
            material = Material(f"box{n}", (1.0, 1.0, 1.0, 1.0), metallic=1.0, roughness=METAL_ROUGH)
            things.append(
                Thing(f"box{n}", Shape().box(low, high), material if metal else Material(f"box{n}", (*rgb, 1.0), **lambert))
            )
        panel = Material("panel", (0.0, 0.0, 0.0, 1.0), emissive=self.panel_nits, **lambert)
        things.append(Thing("panel", Shape().quad(*self.lit_face()), panel))
        return build_of(
            *things, lamps=((Light("lamp", "point", intensity=self.candela), self.lamp),),
            setup={
                "viewpoints": {"eye": {"eye": list(EYE), "target": list(TARGET), "fov_y_deg": FOV}},
                "sky": {"ambient": False},
            },
        )  # fmt: skip

    def theirs(self):
        def diffuse(rgb):
            return {"type": "diffuse", "reflectance": {"type": "rgb", "value": list(rgb)}}

        def quad(o, u, v, **more):
            o, u, v = (np.array(a, float) for a in (o, u, v))
            corners = [o, o + u, o + u + v, o + v]
            mesh = mi.Mesh("quad", 4, 2, props=_props(more))
            params = mi.traverse(mesh)
            params["vertex_positions"] = np.ravel(corners).astype(np.float32)
            params["faces"] = np.array([0, 1, 2, 0, 2, 3], np.uint32)
            params.update()
            return mesh

        def _props(more):
            props = mi.Properties()
            for name, value in more.items():
                props[name] = mi.load_dict(value)
            return props

        scene = {
            "type": "scene",
            "integrator": {"type": "path", "max_depth": BOUNCES + 2, "rr_depth": 64},
            "sensor": {
                "type": "perspective", "fov": FOV, "fov_axis": "y",
                "to_world": mi.ScalarTransform4f().look_at(origin=list(EYE), target=list(TARGET), up=[0, 1, 0]),
                "film": {"type": "hdrfilm", "width": SIZE[0], "height": SIZE[1], "rfilter": {"type": "box"}, "pixel_format": "rgb"},
                "sampler": {"type": "independent", "sample_count": 100},
            },
            "lamp": {"type": "point", "position": list(self.lamp), "intensity": {"type": "rgb", "value": self.candela}},
        }  # fmt: skip
        for o, u, v, i in self.faces():
            scene[f"wall{i}"] = quad(o, u, v, mesh_bsdf=diffuse(self.walls[i]))
        for n, (low, high, rgb, metal) in enumerate(self.boxes):
            middle, half = (np.array(low) + high) / 2, (np.array(high) - low) / 2
            mirror = {"type": "roughconductor", "material": "none", "distribution": "ggx", "alpha": 0.15}
            scene[f"box{n}"] = {
                "type": "cube", "bsdf": mirror if metal else diffuse(rgb),
                "to_world": mi.ScalarTransform4f().translate(middle.tolist()).scale(half.tolist()),
            }  # fmt: skip
        scene["panel"] = quad(
            *self.lit_face(), mesh_bsdf=diffuse((0, 0, 0)),
            mesh_emitter={"type": "area", "radiance": {"type": "rgb", "value": list(self.panel_nits)}},
        )  # fmt: skip
        made = mi.load_dict(scene)
        return np.array([np.array(mi.render(made, seed=seed))[..., :3].reshape(-1, 3) for seed in range(BATCHES)])


def traced(build, samples=SAMPLES, bounces=BOUNCES, size=SIZE, spread=True) -> Tally:
    renderer = Renderer()
    frame = renderer.frame(build, Request("eye", size), "traced")
    scene = path_scene(renderer, build, frame)
    pixels = np.stack(np.meshgrid(np.arange(size[0]), np.arange(size[1])), -1).reshape(-1, 2)
    return grow(
        scene, frame.camera, Tally.empty(scene.light_names, pixels, size, ""), Asked(bounces=bounces, spread=spread), samples
    )


@pytest.mark.parametrize("seed", range(of_many(5, 1)))
def test_a_room_made_at_random_agrees(seed):
    room = Room(seed)
    ours, batches = traced(room.ours()), room.theirs()
    theirs, calm = batches.mean(axis=0), ~ours.silhouette
    assert ours.radiance.mean(axis=0) == pytest.approx(theirs.mean(axis=0), rel=0.01)
    their_error = (batches @ REC709_LUMA).std(axis=0, ddof=1) / math.sqrt(BATCHES)
    off = np.abs(ours.luminance - theirs @ REC709_LUMA)
    # Errors that are themselves told from a few batches leave 94 % within two of them (Student's t with some 28 degrees of freedom).
    assert np.mean(off[calm] <= 2 * np.hypot(ours.error, their_error)[calm] + 1e-3 * theirs.mean()) >= 0.93

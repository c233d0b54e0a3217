"""A yard of boxes to deliver a second time: with settings of each kind of part, and another hand's names for all of it."""

from dataclasses import replace

import numpy as np

from eddyfall.core.hashing import freeze
from eddyfall.core.scene.changes import Change, Operation, apply_change, set_leaf
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Camera, Image, Light, Material, Mesh, Node, TextureUse
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of


def yard(rng=None, count=12):
    """Boxes of several sizes and materials in a row, with lamps, a pane, and settings of each kind of part."""
    rng = rng or np.random.default_rng(0)
    pixels = [np.full((4, 4, 4), v, np.uint8) for v in (90, 160)]
    things = [
        Thing(
            f"box_{k}", Shape().box((3 * k, 0, 0), tuple(3 * k * (a == 0) + s for a, s in enumerate(0.5 + rng.random(3)))),
            Material(f"paint_{k % 3}", base_rgba=(0.2 + 0.2 * (k % 3), 0.5, 0.3, 1.0), base_texture=TextureUse(k % 2)),
        )
        for k in range(count)
    ]  # fmt: skip
    pane = Thing(
        "pane", Shape().quad((0, 0, 3), (2, 0, 0), (0, 2, 0)), Material("clear", (0.9, 0.9, 0.9, 0.3), alpha_mode="BLEND")
    )
    setup = {
        "viewpoints": {"eye": {"eye": [10, 4, 25], "target": [10, 0, 0], "fov_y_deg": 60}, "cam": {"camera": "camera"}},
        "nodes": {"box_1": {"draw_rank": 1}, "pane": {"key_shift_m": 0.2}},
        "sort_points": {"here": {"place_m": [0, 0, 0], "members": ["box_2", "pane"]}},
        "volumes": {"mist": {"node": "box_3"}},
        "light_sets": {"night": {"on": {"lamp": False}}},
        "lights": {"lamp": {"filter_px": 3}, "sun": {"kind": "sun", "illuminance_lux": 1000}},
    }
    build = build_of(*things, pane, images=tuple(Image(f"p{k}", freeze(p)) for k, p in enumerate(pixels)))
    there = np.eye(4)
    there[:3, 3] = (1, 3, 2)
    scene = replace(
        build.scene, lights=(Light("lamp", "point", intensity=100.0),), cameras=(Camera("lens", 0.9, 0.1),),
        nodes=(*build.scene.nodes, Node("lamp", there, light=0), Node("camera", there, camera=0)),
    )  # fmt: skip
    return replace(
        build, scene=scene, setup=parse_setup({"eddyfall_setup": 1, **setup}), raw_setup={"eddyfall_setup": 1, **setup}
    )


def ledger(build, *values):
    """Changes that set leaves, each on the one before."""
    made = []
    for k, (path, value) in enumerate(values):
        change = set_leaf(build, tuple(path.split(".")), value, scope="node", title=path).model_copy(update={"id": f"edit {k}"})
        build = apply_change(build, change)
        made.append(change)
    return made


def other_names(scene, rng):
    """The same scene by another hand: every part of another name, in another order, its triangles in another order too."""
    order = rng.permutation(len(scene.nodes))
    meshes = []
    for k, mesh in enumerate(scene.meshes):
        parts = tuple(replace(p, indices=freeze(p.indices[rng.permutation(len(p.indices))])) for p in mesh.primitives)
        meshes.append(Mesh(f"m{k:03}", parts))
    nodes = tuple(replace(scene.nodes[i], name=f"part-{i:03}") for i in order)
    materials = tuple(replace(m, name=f"look {k}") for k, m in enumerate(scene.materials))
    images = tuple(replace(i, name=f"picture {k}") for k, i in enumerate(scene.images))
    return replace(scene, nodes=nodes, meshes=tuple(meshes), materials=materials, images=images), {
        scene.node_keys[i]: f"part-{i:03}" for i in range(len(scene.nodes))
    }


def at(scene, number, x):
    matrix = np.array(scene.nodes[number].matrix)
    matrix[0, 3] = x
    return scene.with_node(number, replace(scene.nodes[number], matrix=freeze(matrix)))


YARD = yard()
MOVED = Change(
    id="lamp", title="lamp on", scope="node", operation=Operation(name="node.move", params={"node": "lamp", "by_m": [1.0, 0, 0]})
)  # fmt: skip


def second(folder):
    """The yard's second delivery: all by other names, the lamp elsewhere."""
    scene, names = other_names(YARD.scene, np.random.default_rng(5))
    scene = at(scene, scene.node_number[names["lamp"]], 9.0)
    path = folder / "second.glb"
    path.write_bytes(write_glb(scene))
    return path, names

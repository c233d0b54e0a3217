"""Every family on a scene a hundredth and a hundred times as large: the same findings, remedies in proportion; ten kilometres away:
the same, or a finding that says that precision is lost."""

import copy
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import pytest

from bake_scenes import UNIT_PAGE, baked_setup, matt, panel, under_a_partition
from eddyfall.core.bake.maps.run import bake
from eddyfall.core.errors import SceneError
from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer
from eddyfall.core.hashing import freeze
from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, Operation, apply_change
from eddyfall.core.scene.model import Light, Mesh, Primitive
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.sweep import sweep
from eddyfall.core.uv.repair import turn_matrix
from eddyfall.demo.shapes import Shape, grid_charts
from scenes import GREY, Thing, build_of, flat, net_build, wall, write_build

SIZE = (320, 180)
RENDERER = Renderer(Memo(256 * 1024**2))
LENGTHS = {
    "eye", "target", "near_m", "far_m", "reach_m", "far_reach_m", "thickness_m", "step_m", "at_m", "bounds_padding_m",
    "draw_distance_m", "low_m", "high_m",
}  # fmt: skip


def scaled(build, s):
    """The build s times as large, its lamps and fog so that every light level stays."""
    scene = build.scene
    meshes = tuple(
        replace(m, primitives=tuple(
            replace(p, attributes={**p.attributes, "POSITION": freeze((p.positions.astype(float) * s).astype(np.float32))})
            for p in m.primitives
        ))
        for m in scene.meshes
    )  # fmt: skip
    nodes = []
    for node in scene.nodes:
        matrix = np.array(node.matrix)
        matrix[:3, 3] *= s
        nodes.append(replace(node, matrix=freeze(matrix)))
    lights = tuple(
        replace(v, intensity=v.intensity * (1 if v.kind == "directional" else s * s), range_m=v.range_m * s) for v in scene.lights
    )
    raw = copy.deepcopy(build.raw_setup)
    for part, name, value in (("depth", "near_m", 0.1), ("shadow", "near_m", 0.5), ("shadow", "reach_m", 150.0)):
        raw.setdefault(part, {}).setdefault(name, value)
    _scale(raw, s)
    if "fog" in raw and "fog_per_m" in raw["fog"]:
        raw["fog"]["fog_per_m"] /= s
    return finish_build(replace(scene, meshes=meshes, nodes=tuple(nodes), lights=lights), parse_setup(raw), raw, [])


def _scale(value, s):
    for key, inner in list(value.items()):
        if isinstance(inner, dict):
            _scale(inner, s)
        elif key in LENGTHS and inner is not None:
            value[key] = [v * s for v in inner] if isinstance(inner, (list, tuple)) else inner * s


def moved(build, by=(10_000.0, 0.0, -2_000.0)):
    """The build somewhere else."""
    return apply_change(build, Change(id="m", scope="project", operation=Operation(name="scene.move", params={"by_m": list(by)})))


def decks():
    """Two floors on one plane, a third a hair above another."""
    return build_of(
        Thing("slab", Shape().box((-3, -1.5, -12), (3, -1.0, -4)), flat("stone", 0.5)),
        Thing("deck", Shape().quad((-2, -1.0, -5), (4, 0, 0), (0, 0, -6)), flat("wood", 0.2)),
        setup={"depth": {"near_m": 0.05}},
    )


def piers():
    """A pier whose shadow lies beyond the reach."""
    return build_of(
        Thing("bed", Shape().quad((-40, -2, 0), (80, 0, 0), (0, 0, -90)), GREY),
        Thing("pier", Shape().box((-2, -2, -62), (2, 6, -58)), GREY),
        setup={
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 3.0, "towards": [0.7, 0.6, 0.3]}},
            "shadow": {"reach_m": 40.0, "near_m": 0.5},
            "depth": {"near_m": 0.5},
            "viewpoints": {"eye": {"eye": [0, 4, 0], "target": [0, 0, -60], "fov_y_deg": 30}},
        },
    )


def tank():
    """A tank without a lid and without inner faces, seen from above."""
    return build_of(
        Thing("tank", Shape().box((-2, 0, -1.5), (2, 2, 1.5), faces="xXyzZ"), GREY),
        setup={"depth": {"near_m": 0.5}, "viewpoints": {"eye": {"eye": [3, 7, 4], "target": [0, 0.5, 0], "fov_y_deg": 45}}},
    )


def turned_away():
    """A pier, a viewpoint that looks at it, and one that looks the other way, where nothing is."""
    views = {
        "eye": {"eye": [0, 2, 0], "target": [0, 0, -9], "fov_y_deg": 45},
        "away": {"eye": [0, 2, 0], "target": [0, 3, 9], "fov_y_deg": 45},
    }
    return build_of(
        Thing("pier", Shape().box((-1, -1, -10), (1, 2, -8)), GREY), setup={"depth": {"near_m": 0.5}, "viewpoints": views}
    )


def room():
    """A room of 9 m with a wall across its floor, charted over it, lit on one side: light leaks."""
    return under_a_partition(64, samples=64)


def cellar():
    """A floor askew on its texels under a plinth with charts a texel apart, half of it outside the focus region; the worst settings."""
    askew = (UNIT_PAGE - 0.5) @ turn_matrix(7.0).T * 0.6 + 0.5
    shape = Shape().box((1.06, 0, 1.06), (2.56, 0.5, 2.56))
    things = [
        panel("floor", (0, 0, 4), (4, 0, 0), (0, 0, -4), matt("floor", 0.5), askew),
        Thing("plinth", shape, matt("stone", 0.5), lightmap=grid_charts(shape)),
    ]
    worst = {"hidden": "keep", "denoise": "across_gaps", "mips": True, "gutter_texels": 1}
    return build_of(
        *things,
        setup={
            **baked_setup(things, resolution=64, samples=32, bounces=1, **worst),
            "sky": {"zenith_rgb": [0.5] * 3, "horizon_rgb": [0.5] * 3, "ground_rgb": [0.2] * 3},
            "lights": {"sun": {"kind": "sun", "towards": [0.3, 1, 0.2], "illuminance_lux": 1.0}},
            "focus_regions": {"half": {"low_m": [0.5, -0.1, -0.1], "high_m": [4.1, 3, 4.1]}},
            "viewpoints": {"eye": {"eye": [2, 14, 14], "target": [2, 0, 2], "fov_y_deg": 40}},
            "depth": {"near_m": 0.5},
        },
    )


def yard():
    """A crate whose charts share texels and a shed with a turned face, in dim light stored in too few bits."""
    crate, shed = Shape().box((1, 0.01, 1), (2, 1.01, 2)), Shape().box((-2.5, 0.01, 1), (-0.5, 2.01, 3))
    things = [
        panel("floor", (0, 0, 4), (4, 0, 0), (0, 0, -4), matt("floor", 0.5), UNIT_PAGE),
        Thing("crate", crate, matt("wood", 0.5), lightmap=np.tile(UNIT_PAGE * 0.8 + 0.1, (6, 1))),
        Thing("shed", shed, matt("tin", 0.5), lightmap=grid_charts(shed)),
    ]
    build = build_of(
        *things,
        setup={
            **baked_setup(things, resolution=64, samples=32, bounces=0, encoding="srgb8", range_lux=200.0),
            "viewpoints": {"eye": {"eye": [2, 6, 8], "target": [1, 0, 2], "fov_y_deg": 50}},
            "depth": {"near_m": 0.5},
        },
        lamps=((Light("lamp", "point", intensity=6.0), (-1.0, 4.0, 5.0)),),
    )
    index = build.scene.mesh_keys.index("shed")
    part = build.scene.meshes[index].primitives[0]
    turned = part.indices.copy()
    turned[2:4] = turned[2:4][:, [0, 2, 1]]
    mesh = Mesh("shed", (Primitive(part.attributes, turned, part.material, part.source_index),))
    return replace(build, scene=build.scene.with_mesh(index, mesh))


def dimmed(build):
    """The build after its lamps were turned half down, so that what was baked is stale."""
    lights = tuple(replace(v, intensity=v.intensity / 2) for v in build.scene.lights)
    return replace(build, scene=replace(build.scene, lights=lights))


@dataclass(frozen=True)
class Case:
    """A scene, what it shows at least, and what happens to it after it was baked."""

    make: Callable[[], Build]
    codes: frozenset[str]
    after: Callable[[Build], Build] = lambda build: build


CASES = {
    "see-through net": Case(net_build, frozenset({"depth.missing-prepass"})),
    "decks": Case(decks, frozenset({"depth.coincident"})),
    "piers": Case(piers, frozenset({"shadow.out-of-reach"})),
    "tank": Case(tank, frozenset({"face.seen-from-behind"})),
    "turned away": Case(turned_away, frozenset({"view.empty"})),
    "leak": Case(room, frozenset({"bake.leak"})),
    "cellar": Case(
        cellar, frozenset({"uv.off-grid", "texture.mip-bleed", "bake.hidden-faces", "bake.denoise-lines", "bake.uncovered"})
    ),
    "yard": Case(yard, frozenset({"uv.overlap", "bake.banding", "bake.stale", "face.winding", "face.seen-from-behind"}), dimmed),
}


def found(build, after=lambda build: build):
    if any(m.lightmap_uv is not None for m in build.setup.meshes.values()):
        build = bake(build, everything=True).build
    result = sweep(after(build), size=SIZE, renderer=RENDERER)
    return {f.fingerprint: f for f in result.findings}


@pytest.fixture(scope="module")
def as_made():
    """What is found in each scene as it is made, by name; each swept once."""
    return {name: found(case.make(), case.after) for name, case in CASES.items()}


@pytest.mark.long
@pytest.mark.parametrize("name", CASES)
def test_the_same_is_found_at_a_hundredth_and_at_a_hundred_times_the_size(name, as_made):
    case, normal = CASES[name], as_made[name]
    assert {f.code for f in normal.values()} >= case.codes
    for s in (0.01, 100.0):
        other = found(scaled(case.make(), s), case.after)
        assert set(other) == set(normal), (s, [f.suspicion.title for f in other.values()])
        for key, finding in normal.items():
            mine = other[key]
            assert [r.verdict for r in mine.remedies if r.verdict == "cures"] or not finding.best
            assert mine.severity == finding.severity
            for value, wanted in zip(lengths_of(mine), lengths_of(finding)):
                # A lift is what the depth buffer's steps ask for and a millimetre; that millimetre does not grow with the scene.
                least = 0.3 * wanted * min(s, 1.0)
                assert least < value < 3.5 * wanted * s, f"{mine.suspicion.title}: {value} for {wanted} times {s}"


def lengths_of(finding):
    """Lengths in metres that the remedies set: thicknesses, reaches, near planes; lifts by their size."""
    for remedy in sorted(finding.remedies, key=lambda r: (r.change.scope, len(r.change.patch), r.change.id[:12])):
        if remedy.change.operation is not None and "by_m" in remedy.change.operation.params:
            yield float(np.linalg.norm(remedy.change.operation.params["by_m"]))
        for op in remedy.change.patch:
            value = op.value
            if (op.op != "test" and op.path.endswith("inner_side")) or (isinstance(value, dict) and "inner_side" in value):
                yield float((value.get("inner_side") or value)["thickness_m"])
            if op.op != "test" and op.path.rsplit("/", 1)[-1] in ("reach_m", "far_reach_m"):
                yield float(value)


@pytest.mark.long
@pytest.mark.parametrize("name", CASES)
def test_ten_kilometres_away_the_same_is_found_or_precision_is_said_to_be_lost(name, as_made):
    case = CASES[name]
    normal, away = as_made[name], found(moved(case.make()), case.after)
    lost = [f for f in away.values() if f.code == "import.far-off"]
    assert lost or set(away) == set(normal), [f.suspicion.title for f in away.values()]
    for finding in lost:
        assert finding.best is not None and finding.best.change.operation.name == "scene.move"
        back = found(apply_change(moved(case.make()), finding.best.change))
        assert "import.far-off" not in {f.code for f in back.values()}


def test_hidden_texels_do_not_eat_a_small_room():
    # A closed room of 90 mm: its bake is that of one of 9 m, not darkened by faces that are all within ten millimetres.
    def light(s):
        things = [
            panel("floor", (0, 0, 9 * s), (9 * s, 0, 0), (0, 0, -9 * s), matt("floor", 0.5), [[0, 0], [1, 0], [1, 1], [0, 1]])
        ]
        things += [Thing("shelf", Shape().box((2 * s, 0.5 * s, -0.0 * s), (7 * s, 0.6 * s, 5 * s)), matt("wood", 0.5))]
        lamp = ((Light("lamp", "point", intensity=20.0 * s * s), (4.5 * s, 6.0 * s, 7.0 * s)),)
        build = build_of(*things, setup=baked_setup(things, resolution=16, samples=32, bounces=2), lamps=lamp)
        return bake(build, everything=True).raws["floor", None].mean.mean()

    assert light(0.01) == pytest.approx(light(1.0), rel=0.02)


def test_what_stands_beyond_ten_thousand_kilometres_is_refused_by_name(tmp_path):
    far = build_of(Thing("wall", wall(9.0, half=4.0), flat("w", 0.5), place=(2e7, 0, 0)))
    with pytest.raises(SceneError, match="node 0 'wall': it stands beyond 10,000 km"):
        read_scene(write_build(far, tmp_path))
    assert "view.empty" not in {
        f.code for f in found(build_of(Thing("wall", wall(9_000.0, half=4000.0), flat("w", 0.5)))).values()
    }

"""Scenes at the edge of what makes sense: every lightmap command ends with an answer or with one line, in no time, and in valid JSON."""

import json
import warnings
from dataclasses import replace

import numpy as np
import pytest

from bake_scenes import UNIT_PAGE, baked_setup, matt, panel
from eddyfall.cli import main
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Light, Node
from scenes import build_of, write_build

LAMP = ((Light("lamp", "point", intensity=50.0), (1.0, 2.0, 1.0)),)


def floor(uv=UNIT_PAGE, size=2.0, x=0.0, name="floor"):
    return panel(name, (x, 0, size), (size, 0, 0), (0, 0, -size), matt(name, 0.5), uv)


def build(*things, lamps=LAMP, **bake):
    return build_of(
        *things, setup=baked_setup(list(things), **{"resolution": 16, "samples": 8, "bounces": 1, **bake}), lamps=lamps
    )


def placed(matrix):
    made = build(floor())
    node = replace(made.scene.nodes[0], matrix=freeze(np.array(matrix, float)))
    return replace(made, scene=replace(made.scene, nodes=(node, *made.scene.nodes[1:])))


def doubled(shift):
    made, matrix = build(floor()), np.eye(4)
    matrix[0, 3] = shift
    return replace(made, scene=replace(made.scene, nodes=(*made.scene.nodes, Node("twin", freeze(matrix), mesh=0))))


SCENES = {
    "UVs over ten million tiles": lambda: build(floor(UNIT_PAGE * 1e7)),
    "UVs over ten million tiles of a map that wraps": lambda: build(floor(UNIT_PAGE * 1e7), uv_use="as_is"),
    "UVs without area": lambda: build(floor(UNIT_PAGE * 0 + 0.5)),
    "the smallest map": lambda: build(floor(), resolution=8),
    "one sample": lambda: build(floor(), samples=1),
    "no light": lambda: build(floor(), lamps=()),
    "a node without width": lambda: placed(np.diag([0.0, 1, 1, 1])),
    "a mirrored node": lambda: placed(np.diag([-1.0, 1, 1, 1])),
    "one mesh on two nodes": lambda: doubled(50.0),
    "one mesh twice in one place": lambda: doubled(0.0),
    "a hundred kilometres away": lambda: build(floor(x=1e5)),
    "a fifth of a millimetre": lambda: build(floor(size=2e-4)),
}
WITHOUT_TEXELS = {"UVs without area", "UVs over ten million tiles of a map that wraps"}


def asked(capsys, *args):
    """(exit code, JSON or the one line of an error)."""
    with warnings.catch_warnings():
        warnings.simplefilter("error", RuntimeWarning)
        code = main([*args, "--json", "-"])
    said = capsys.readouterr()
    if code == 2:
        assert said.err.startswith("eddyfall: ") and len(said.err.strip().splitlines()) == 1
        return code, said.err

    def refuse(word):
        raise AssertionError(f"{word} is no JSON")

    return code, json.loads(said.out, parse_constant=refuse)


@pytest.mark.parametrize("name", SCENES)
def test_every_command_answers(name, tmp_path, capsys):
    path = str(write_build(SCENES[name](), tmp_path, "odd"))
    code, charts = asked(capsys, "charts", path)
    assert code == 0 and charts["assets"][0]["asset"] == "floor"
    assert asked(capsys, "bake", path, "--status")[0] == 1
    code, done = asked(capsys, "bake", path, "--out", str(tmp_path / "baked"))
    assert code == 0
    made = next(f for f in done["files"] if f.endswith(".glb"))
    assert asked(capsys, "bake", made, "--status")[0] == 0, "what was just baked is fresh"
    code, why = asked(capsys, "why", made, "--asset", "floor", "--texel", "3,3")
    assert code == (2 if name in WITHOUT_TEXELS else 0)
    assert code == 2 or all(np.isfinite(e["effect_lux"]) for e in why["effects"])
    assert asked(capsys, "sweep", made, "--size", "96x54")[0] in (0, 1)


def test_nodes_that_share_a_mesh_have_a_map_each(tmp_path, capsys):
    path = str(write_build(doubled(50.0), tmp_path, "two"))
    _, done = asked(capsys, "bake", path, "--out", str(tmp_path / "baked"))
    light = {b["asset"]: b["mean_lux"] for b in done["maps"]}
    assert light["floor"] > 1000 * light["twin"] > 0


def test_names_that_look_alike_as_files_do_not_overwrite_each_other(tmp_path, capsys):
    names = ["f/ö |1", "f-ö/1", "стена", "床"]
    path = str(write_build(build(*(floor(x=5.0 * k, name=n) for k, n in enumerate(names))), tmp_path, "names"))
    _, done = asked(capsys, "bake", path, "--out", str(tmp_path / "baked"))
    maps = [f for f in done["files"] if f.endswith(".exr")]
    assert len(maps) == len(set(maps)) == 4 == len(list((tmp_path / "baked").glob("*.exr")))
    for name in names:
        code, why = asked(capsys, "why", path, "--asset", name, "--texel", "3,3")
        assert code == 0 and why["asset"] == name

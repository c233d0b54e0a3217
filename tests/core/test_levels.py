"""Levels of detail of nodes (MSFT_lod): which is due from where, what is drawn, and what lies about them is one line."""

from dataclasses import replace

import numpy as np
import pytest

from eddyfall.cli import main
from eddyfall.core.errors import SceneError
from eddyfall.core.intake import open_build
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.levels import Levels, covered, in_levels
from eddyfall.core.scene.model import Node
from eddyfall.core.scene.read.gltf import read_scene
from glb_files import CARD, SIGHT_RAD, written_sign

written = written_sign
LOOKING = ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))  # along -z
FOV = SIGHT_RAD


def test_a_card_covers_what_plain_projection_says():
    """Of a square picture as high as it is far: (2 m / distance)^2, whether it lies in the picture or not; all of it from within."""
    for far, aside in ((4, 0), (8, 0), (8, 30)):
        assert covered(CARD + np.array([aside, 0, 0]), (0, 0, far), LOOKING, FOV, 1.0) == pytest.approx((2 / far) ** 2)
        assert covered(CARD + np.array([aside, 0, 0]), (0, 0, far), LOOKING, FOV, 16 / 9) == pytest.approx(
            (2 / far) ** 2 / (16 / 9)
        )
    deep = np.concatenate([CARD, CARD + np.array([0, 0, 4])])
    assert covered(deep, (0, 0, 2), LOOKING, FOV, 1.0) == 1.0
    assert covered(CARD, (0, 0, -3), LOOKING, FOV, 1.0) == 0.0


def test_a_level_is_due_from_its_share_on_and_none_below_the_last():
    further = (Node("b", np.eye(4)), Node("c", np.eye(4)))
    levels = Levels(0, further, (0.5, 0.2, 0.01))
    assert [levels.due(s) for s in (1.0, 0.5, 0.49, 0.2, 0.1, 0.01, 0.009)] == [0, 0, 1, 1, 2, 2, None]
    short = Levels(0, further, (0.5,))
    assert [short.due(s) for s in (0.6, 0.4, 0.0)] == [0, 1, 1]


def test_frames_by_command_draw_what_is_due_and_without_asking_the_finest(tmp_path, capsys):
    from PIL import Image

    path = written(tmp_path)
    assert main(["intake", str(path)]) == 0
    assert "sign: 3, from 25 %, 4 %, 1 % of the picture" in " ".join(capsys.readouterr().out.split())
    seen = {}
    for z in (2, 8, 16, 40):
        for flag in ((), ("--levels",)):
            out = tmp_path / f"{z}{len(flag)}.png"
            assert main(["frame", str(path), "--viewpoint", f"at {z}", "--out", str(out), "--size", "64x64", *flag]) == 0
            pixels = np.asarray(Image.open(out))[..., :3]
            seen[z, len(flag)] = pixels[32, 32].tolist(), pixels[32 + int(64 / z * 0.7), 32].tolist()
    told = " ".join(capsys.readouterr().out.split())
    assert "0 the finest: sign at 1" in told and "sign is not drawn" in told
    white, red, green, blue = [255] * 3, [255, 0, 0], [0, 255, 0], [0, 0, 255]
    assert all(seen[z, 0] == (white, red) for z in (2, 8, 16))
    assert seen[2, 1] == (white, red) and seen[8, 1] == (green, green) and seen[16, 1] == (blue, blue)
    assert seen[40, 1] == (seen[40, 1][1],) * 2 and seen[40, 1][0] not in (white, red, green, blue)


def test_without_shares_the_first_is_drawn_and_levels_outlive_a_rewrite(tmp_path):
    scene = read_scene(written(tmp_path, coverage=None))
    assert scene.levels[0].coverage == () and len(scene.levels[0].further) == 2
    read, again = read_scene(written(tmp_path)), tmp_path / "again.glb"
    moved = replace(read, nodes=(*read.nodes[:3], replace(read.nodes[3], matrix=np.eye(4))))
    again.write_bytes(write_glb(moved, read))
    (kept,) = read_scene(again).levels
    assert [n.mesh for n in kept.further] == [1, 2] and kept.coverage == (0.25, 0.04, 0.01)
    shown = in_levels(scene, {0: 2})
    assert [n.mesh for n in shown.nodes] == [2, None, None, None]
    assert in_levels(scene, {0: 0}).nodes == scene.nodes


@pytest.mark.parametrize(
    ("more", "rule"),
    [({"ids": ()}, "must list 1 to 64 nodes"), ({"ids": (0,)}, "a level of itself"), ({"ids": (9,)}, "node"),
     ({"coverage": (0.1, 0.5)}, "falling shares"), ({"coverage": (0.5, 0.4, 0.3, 0.2)}, "at most 3"), ({"coverage": ("x",)}, "falling")],
)  # fmt: skip
def test_lies_are_one_error(tmp_path, more, rule):
    with pytest.raises(SceneError, match=rule):
        read_scene(written(tmp_path, **more))


def test_what_hangs_on_a_level_is_noted(tmp_path):
    path = written(tmp_path, ids=(1,), coverage=(0.5,), children=[2])
    assert any("hangs on 1 nodes" in note for note in open_build(path).notes)

"""What is handed over: SARIF, HTML, patch, repaired files, pictures."""

import dataclasses
import io
import json
import re

import jsonpatch
import numpy as np
import OpenEXR
import pytest
from PIL import Image

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, render
from eddyfall.core.handover.documents.base import plain
from eddyfall.core.handover.documents.findings import SweepDocument
from eddyfall.core.handover.exr import exr_bytes, png_bytes
from eddyfall.core.handover.html import html_sheet
from eddyfall.core.handover.package import json_bytes, slug, write_new, write_package
from eddyfall.core.handover.sarif import sarif
from eddyfall.core.intake import open_build
from eddyfall.core.scene.changes import apply_changes, read_changes, rename_clashes
from eddyfall.core.scene.setup import read_setup
from eddyfall.core.sweep import sweep
from scenes import net_build, write_build

SIZE = (320, 180)


@pytest.fixture(scope="module")
def net(tmp_path_factory):
    folder = tmp_path_factory.mktemp("net")
    path = write_build(net_build(x_team={"note": "keep"}), folder, "nets")
    build = open_build(path)
    result = sweep(build, size=SIZE)
    changes = rename_clashes([f.best.change for f in result.findings])
    return path, build, result, changes, apply_changes(build, changes)


def test_the_patch_of_the_net_is_exactly_one_hunk(net, tmp_path):
    # The worked case of netting that looks see-through: patch exactly one hunk.
    path, build, _, changes, repaired = net
    files = write_package(build, repaired, changes, tmp_path, path.stem, [path])
    patch = json.loads(files["patch"].read_text())
    assert patch == [
        {"op": "test", "path": "/shaders/net/passes/depth", "value": False},
        {"op": "replace", "path": "/shaders/net/passes/depth", "value": True},
    ]
    mine = json.loads((path.parent / "nets.setup.json").read_text())
    assert jsonpatch.apply_patch(mine, patch) == json.loads(files["setup"].read_text())
    assert json.loads(files["setup"].read_text())["x_team"] == {"note": "keep"}
    assert files["glb"].read_bytes() == path.read_bytes(), "the scene did not change, so its bytes do not"
    assert read_changes(files["changes"]) == tuple(changes)
    again = open_build(files["glb"])
    assert again.content_hash == repaired.content_hash
    assert sweep(again, size=SIZE).findings == ()


def test_inputs_are_never_overwritten(net):
    path, build, _, changes, repaired = net
    before = path.read_bytes(), (path.parent / "nets.setup.json").read_bytes()
    with pytest.raises(RequestError, match="would overwrite an input"):
        write_package(build, repaired, changes, path.parent, path.stem, [path, path.parent / "nets.setup.json"])
    assert before == (path.read_bytes(), (path.parent / "nets.setup.json").read_bytes())


def test_a_link_to_an_input_is_an_input(tmp_path):
    real = tmp_path / "real.glb"
    real.write_bytes(b"x")
    (tmp_path / "link.glb").symlink_to(real)
    with pytest.raises(RequestError, match="would overwrite"):
        write_new(tmp_path / "link.glb", b"y", [real])
    assert real.read_bytes() == b"x"


def test_sarif_says_what_the_standard_requires(net):
    # SARIF 2.1.0: 3.13 sarifLog, 3.14 run, 3.18 tool, 3.27 result, 3.27.10 level, 3.28 location.
    log = sarif(net[2], "my nets.glb")
    assert log["version"] == "2.1.0" and len(log["runs"]) == 1
    run = log["runs"][0]
    rules = run["tool"]["driver"]["rules"]
    assert run["tool"]["driver"]["name"] and len({r["id"] for r in rules}) == len(rules)
    for found in run["results"]:
        assert found["level"] in ("none", "note", "warning", "error")
        assert rules[found["ruleIndex"]]["id"] == found["ruleId"]
        assert found["message"]["text"]
        assert found["locations"][0]["physicalLocation"]["artifactLocation"]["uri"] == "my%20nets.glb"
    assert run["results"][0]["level"] == "error"
    json.dumps(log, allow_nan=False)


def test_html_is_one_file_that_asks_for_nothing_and_escapes_names(net):
    _, build, result, _, repaired = net
    after = sweep(repaired, size=SIZE)
    sheet = html_sheet(build, result, name="<b>&", renderer=Renderer(), after=after, repaired=repaired)
    assert "<b>&<" not in sheet and "&lt;b&gt;&amp;" in sheet
    assert not re.findall(r'(?:src|href)="(?!data:|#)', sheet)
    assert "<script" not in sheet and "url(http" not in sheet
    assert sheet.count("data:image/jpeg") >= 3
    assert sheet.count("url(data:font/woff2;base64,") == 2, "it looks like the application wherever it is opened"
    assert "blocks the build" in sheet and 'd="M0 -5.5L5.5 0L0 5.5L-5.5 0Z"' in sheet, (
        "blocking is the diamond that the screen has"
    )
    assert "write prepass depth (net)" in sheet


def test_the_json_of_a_sweep_has_the_documented_keys(net):
    document = json.loads(json_bytes(SweepDocument.from_core(net[2])))
    assert {"findings", "left_out"} <= set(document)
    for found in document["findings"]:
        assert {"code", "title", "severity", "impact", "cause", "subjects", "evidence", "remedies"} <= set(found)
        for e in found["evidence"]:
            assert {"measure", "value", "unit", "limit"} <= set(e)
    # What is read back says the same: the server stores it, and gives it to the interface again.
    assert json.loads(json_bytes(SweepDocument.model_validate(document))) == document


def test_pictures_come_back_as_they_were_drawn(net, tmp_path):
    frame = render(net[1], "eye", size=SIZE)
    np.testing.assert_array_equal(np.asarray(Image.open(io.BytesIO(png_bytes(frame)))), frame.display)
    (tmp_path / "f.exr").write_bytes(exr_bytes(frame))
    with OpenEXR.File(str(tmp_path / "f.exr")) as file:
        channels = file.channels()
        linear = next(channels[name].pixels for name in ("RGB", "RGBA") if name in channels)
    np.testing.assert_allclose(linear[..., :3], frame.linear, rtol=1e-6)


def test_file_names_are_our_own():
    assert slug("../../Pump: Hall\x1b.v2") == "pump-hall-v2"
    assert slug("///") == "build"


def test_numbers_json_cannot_hold_become_null():
    assert plain({"a": np.float32("inf"), "b": [np.nan, 1.5], "c": np.int64(3), "d": (np.array([1.0]),)}) == {
        "a": None, "b": [None, 1.5], "c": 3, "d": [[1.0]]}  # fmt: skip


def test_setup_on_disk_reads_back(net):
    setup, raw = read_setup(net[0].parent / "nets.setup.json")
    assert setup == net[1].setup and raw == net[1].raw_setup


def test_marks_that_turn_a_line_round_are_shown_in_the_sheet():
    build = net_build()
    named = dataclasses.replace(build.scene.nodes[0], name="net\x1b[2J\u202egnp.exe")
    build = dataclasses.replace(build, scene=build.scene.with_node(0, named))
    renderer = Renderer()
    sheet = html_sheet(build, sweep(build, renderer=renderer), name="nets", renderer=renderer)
    assert "\x1b" not in sheet and "\u202e" not in sheet
    assert "net␛[2J⟨U+202E⟩gnp.exe" in sheet

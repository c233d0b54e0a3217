"""What came from elsewhere, in the browser by mouse and by keys: supplied, twinned, converted, proved, handed over."""

import io
import re
from dataclasses import replace

import numpy as np
import pytest
from PIL import Image as Picture
from playwright.sync_api import expect

from browser_helpers import FOCUSED, barriers, bring, command_line, fits_in_every_way, hand_over, with_setup
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Image, Material, Node, TextureUse
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, flat, glb_bytes, glb_parts, wall, write_build

LACQUER = {
    "works_on": [],
    "parameters": {"tint": {"role": "base_rgb", "how": "srgb"}, "shine": {"role": "roughness", "how": "one_minus"}},
}


def store(folder):
    """A board whose picture is on another machine, a helmet of a lacquer that is not here, two posts of three; and the picture."""
    post = Shape().box((-0.1, 0, -0.1), (0.1, 1.0, 0.1)).box((0.1, 0.6, -0.05), (0.3, 0.7, 0.05))
    board = Material("board", base_texture=TextureUse(0), unlit=True)
    values = {"tint": {"rgb": [0.7, 0.4, 0.3]}, "shine": {"value": 0.6}}
    build = build_of(
        Thing("board", Shape().quad((-1.6, -0.5, -8), (0.8, 0, 0), (0, 1, 0)), board),
        Thing("helmet", Shape().box((-0.3, -0.4, -8.4), (0.4, 0.3, -7.8)), Material("helmet", metallic=0.0)),
        *[Thing(f"post_{k}", post, flat("paint", 0.6), place=(0.8 + 0.5 * k, -0.5, -8)) for k in range(2)], Thing("wall", wall(12.0)),
        images=(Image("board", np.full((8, 8, 4), 90, np.uint8)),),
        setup={"viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 26}},
               "lights": {"sun": {"kind": "sun", "illuminance_lux": 3.0, "towards": [0.3, 0.5, 0.8]}},
               "shaders": {"lacquer": LACQUER}, "materials": {"helmet": {"shader": "lacquer", "values": values}}},
    )  # fmt: skip
    place = np.eye(4)
    place[:3, 3] = (1.8, -0.5, -8)
    path = write_build(build, folder, "store")
    document, binary = glb_parts(write_glb(replace(build.scene, nodes=(*build.scene.nodes, Node("post_2", place)))))
    document["images"] = [{"uri": "D:/textures/board_albedo.png"}]
    path.write_bytes(glb_bytes(document, binary))
    stream = io.BytesIO()
    Picture.fromarray(np.full((8, 8, 3), (40, 160, 90), np.uint8)).save(stream, "PNG")
    picture = folder / "Board_BaseColor_2k.png"
    picture.write_bytes(stream.getvalue())
    return path, picture


def press(page, name):
    """A button by keys: Tab to it, then Enter."""
    button = page.get_by_role("button", name=re.compile(name)).or_(page.get_by_role("link", name=re.compile(name))).first
    expect(button).to_be_enabled(timeout=60_000)
    button.focus()
    assert re.search(name, page.evaluate(FOCUSED))
    page.keyboard.press("Enter")


def supply(page, picture, act):
    """A picture finds its place, is rehearsed, and accepted as build 2."""
    page.get_by_label("Scene and settings files").set_input_files(str(picture))
    act(page, "^Find its place")
    told = page.get_by_label("Supplied pictures")
    expect(told).to_contain_text("a name alike: look at it")
    act(page, "^See it rehearsed")
    accept = page.get_by_role("button", name="Accept as a build")
    expect(accept).to_be_enabled(timeout=60_000)
    act(page, "^Accept as a build")
    expect(page.get_by_role("heading", name=re.compile("^Build 2:"))).to_be_visible(timeout=60_000)


def click(page, name):
    page.get_by_role("button", name=re.compile(name)).or_(page.get_by_role("link", name=re.compile(name))).first.click()


def test_supplied_twinned_converted_proved_and_handed_over_by_mouse_and_again_by_keys(page, tmp_path):
    path, picture = store(tmp_path)
    project = bring(page, "From elsewhere", *with_setup(path))
    expect(page.get_by_text("no one file of that name came along").first).to_be_visible()
    supply(page, picture, click)

    # By mouse: what is missing stands again.
    page.get_by_role("link", name="What is missing, and its twins").click()
    expect(page.get_by_role("heading", name="1 thing is missing")).to_be_visible(timeout=60_000)
    expect(page.get_by_role("table", name="Twins").get_by_role("row").nth(1)).to_contain_text("post_0")
    fits_in_every_way(page)
    page.get_by_role("button", name=re.compile("^Let post_0 stand there")).click()
    expect(page.get_by_role("heading", name="Nothing is missing")).to_be_visible(timeout=60_000)

    # The base shader: rehearsed on its sheet, then found, cured, proved and kept from the sweep.
    page.goto(f"/p/{project}/b/2/intake/conversion")
    expect(page.get_by_role("heading", name="Base shaders that are not here: 1 material converts")).to_be_visible(timeout=60_000)
    expect(page.get_by_role("table", name="Values of helmet")).to_contain_text("shine0.6roughness1 less it0.4")
    fits_in_every_way(page)
    page.goto(f"/p/{project}/b/2/sweep")
    page.get_by_role("button", name=re.compile("^Sweep")).click()
    page.get_by_text("lacquer has no version for any target").first.wait_for(timeout=240_000)
    page.get_by_role("button", name="Open case").first.click(timeout=240_000)
    page.get_by_role("button", name=re.compile("convert helmet to the stock base shader")).first.click(timeout=60_000)
    page.get_by_role("button", name="Keep this fix").click()
    page.get_by_text("2 kept").or_(page.get_by_text("1 kept")).first.wait_for(timeout=60_000)
    page.get_by_role("button", name="Prove it everywhere").click()
    page.get_by_text("✓ Proved").wait_for(timeout=240_000)
    page.get_by_role("link", name="Ledger", exact=True).click()
    hand_over(page, tmp_path / "mouse")
    in_order(next((tmp_path / "mouse").glob("*.glb")))

    # By keys, in another project.
    project = bring(page, "From elsewhere, by keys", *with_setup(path))
    supply(page, picture, press)
    press(page, "^What is missing, and its twins")
    row = page.get_by_role("table", name="Twins").get_by_role("row").nth(1)
    expect(row).to_be_visible(timeout=60_000)
    row.focus()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowUp")
    page.keyboard.press("k")
    expect(page.get_by_role("heading", name="Nothing is missing")).to_be_visible(timeout=60_000)
    page.goto(f"/p/{project}/b/2/intake/conversion")
    row = page.get_by_role("row", name="helmet: becomes stock_opaque")
    expect(row).to_be_visible(timeout=60_000)
    row.focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("table", name="Values of helmet")).to_have_count(0)
    assert barriers(page) == []
    page.keyboard.press("k")
    expect(page.get_by_text("Nothing is drawn in the error colour")).to_be_visible(timeout=60_000)
    page.goto(f"/p/{project}/b/2/ledger")
    expect(page.get_by_role("heading", name="2 changes kept, in order")).to_be_visible()
    press(page, "^Write the hand over")
    page.get_by_role("link", name=re.compile("Download the ZIP")).first.wait_for(timeout=120_000)


def in_order(path):
    """What was handed over has its picture, its third post and no material in the error colour."""
    scene = read_scene(path)
    assert scene.missing == () and scene.images[0].pixels[0, 0, :3].tolist() == [40, 160, 90]
    assert scene.nodes[scene.node_number["post_2"]].mesh is not None
    helmet = scene.materials[scene.material_keys.index("helmet")]
    assert helmet.roughness == pytest.approx(0.4) and helmet.base_rgba[0] == pytest.approx(0.448, abs=0.001)
    code, told = command_line("convert", path)
    assert (code, told["rows"]) == (0, [])

"""USD as the glTF that says the same: stages written by usd-core itself; units, axes, faces, materials, what is composed, what lies."""

import math
import subprocess
import sys

import numpy as np
import pytest
from PIL import Image as Picture

pytest.importorskip("pxr", reason="USD is an extra")
from pxr import Sdf, Usd, UsdGeom, UsdLux, UsdShade, UsdUtils

from eddyfall.cli import main
from eddyfall.core.errors import SceneError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.intake import open_build
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.read.gltf import read_scene

QUAD = [(-1, -1, 0), (1, -1, 0), (1, 1, 0), (-1, 1, 0)]


def stage_at(path, up="Y", unit=1.0):
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, up)
    if unit is not None:
        UsdGeom.SetStageMetersPerUnit(stage, unit)
    return stage


def quad(stage, path="/gate/board", scheme="none", points=QUAD, counts=(4,), corners=(0, 1, 2, 3)):
    mesh = UsdGeom.Mesh.Define(stage, path)
    mesh.CreatePointsAttr(list(points))
    mesh.CreateFaceVertexCountsAttr(list(counts))
    mesh.CreateFaceVertexIndicesAttr(list(corners))
    if scheme is not None:
        mesh.CreateSubdivisionSchemeAttr(scheme)
    st = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying)
    st.Set([(p[0] / 2 + 0.5, p[1] / 2 + 0.5) for p in (points[k] for k in corners)])
    return mesh


def paint(stage, path="/paint", **inputs):
    """A UsdPreviewSurface; an input that is a dict is a picture: file, output, and what else its reader has."""
    material, shader = UsdShade.Material.Define(stage, path), UsdShade.Shader.Define(stage, f"{path}/surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    for name, value in inputs.items():
        kind = (
            Sdf.ValueTypeNames.Color3f
            if "Color" in name
            else Sdf.ValueTypeNames.Normal3f
            if name == "normal"
            else Sdf.ValueTypeNames.Float
        )
        if not isinstance(value, dict):
            shader.CreateInput(name, Sdf.ValueTypeNames.Int if name == "useSpecularWorkflow" else kind).Set(value)
            continue
        texture = UsdShade.Shader.Define(stage, f"{path}/{name}")
        texture.CreateIdAttr("UsdUVTexture")
        texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(value["file"])
        for key in ("wrapS", "wrapT"):
            texture.CreateInput(key, Sdf.ValueTypeNames.Token).Set(value.get("wrap", "repeat"))
        reader = UsdShade.Shader.Define(stage, f"{path}/{name}_st")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("st")
        source = reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)
        if "turn" in value:
            turn = UsdShade.Shader.Define(stage, f"{path}/{name}_turn")
            turn.CreateIdAttr("UsdTransform2d")
            turn.CreateInput("in", Sdf.ValueTypeNames.Float2).ConnectToSource(source)
            degrees, scale, shift = value["turn"]
            turn.CreateInput("rotation", Sdf.ValueTypeNames.Float).Set(degrees)
            turn.CreateInput("scale", Sdf.ValueTypeNames.Float2).Set(scale)
            turn.CreateInput("translation", Sdf.ValueTypeNames.Float2).Set(shift)
            source = turn.CreateOutput("result", Sdf.ValueTypeNames.Float2)
        texture.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(source)
        output = value.get("output", "rgb")
        of = texture.CreateOutput(output, Sdf.ValueTypeNames.Float3 if output == "rgb" else Sdf.ValueTypeNames.Float)
        shader.CreateInput(name, kind).ConnectToSource(of)
    return material


def picture(path, pixels):
    Picture.fromarray(np.asarray(pixels, np.uint8)).save(path)


def world_of(scene):
    geometry = pack(scene, open_setup())
    return geometry.positions[: len(geometry.positions) - 4]


def open_setup():
    from eddyfall.core.scene.setup import parse_setup

    return parse_setup({"eddyfall_setup": 1})


@pytest.mark.parametrize(("up", "unit", "due"), [("Y", 1.0, 1.0), ("Z", 0.01, 0.01), ("Y", None, 0.01)])
def test_units_and_axes(tmp_path, up, unit, due):
    """A point (2, 3, 5) of the stage: in metres (2, 3, 5) by a unit of 1; with Z up it is (2, 5, -3); an unset unit is a centimetre."""
    stage = stage_at(tmp_path / "a.usda", up, unit)
    mesh = quad(stage, points=[(2, 3, 5), (3, 3, 5), (3, 4, 5), (2, 4, 5)])
    UsdGeom.Xformable(mesh).AddTranslateOp().Set((10, 0, 0))
    stage.Save()
    first = world_of(read_scene(tmp_path / "a.usda"))
    place = np.array([12, 3, 5]) if up == "Y" else np.array([12, 5, -3])
    assert np.abs(first - place * due).sum(axis=1).min() < 1e-6


def test_faces_of_any_number_holes_hands_and_subsets(tmp_path):
    """A pentagon and two triangles, one of them a hole, left-handed: four triangles that face the other way, of two materials."""
    stage = stage_at(tmp_path / "a.usda")
    points = [(math.cos(k * 1.2566), math.sin(k * 1.2566), 0) for k in range(5)] + [(2, 0, 0), (2, 1, 0)]
    mesh = quad(stage, points=points, counts=(5, 3, 3), corners=(0, 1, 2, 3, 4, 0, 5, 1, 5, 6, 1))
    mesh.CreateOrientationAttr(UsdGeom.Tokens.leftHanded)
    mesh.CreateHoleIndicesAttr([2])
    red, blue = paint(stage, "/red", diffuseColor=(1, 0, 0)), paint(stage, "/blue", diffuseColor=(0, 0, 1))
    UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(red)
    subset = UsdShade.MaterialBindingAPI(mesh.GetPrim()).CreateMaterialBindSubset("rim", [1])
    UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(blue)
    stage.Save()
    scene = read_scene(tmp_path / "a.usda")
    (made,) = scene.meshes
    by = {scene.materials[p.material].name: p for p in made.primitives}
    assert {name: len(p.indices) for name, p in by.items()} == {"red": 3, "blue": 1}
    for part in made.primitives:
        a, b, c = part.positions[part.indices].transpose(1, 0, 2)
        assert (np.cross(b - a, c - a)[:, 2] < 0).all()


def test_instances_share_a_mesh_and_what_is_hidden_or_a_guide_is_left_out(tmp_path):
    stage = stage_at(tmp_path / "a.usdc")
    UsdGeom.Xform.Define(stage, "/proto")
    quad(stage, "/proto/board")
    for k in range(3):
        copy = UsdGeom.Xform.Define(stage, f"/row/copy_{k}")
        copy.GetPrim().GetReferences().AddInternalReference("/proto")
        copy.GetPrim().SetInstanceable(True)
        copy.AddTranslateOp().Set((3.0 * k, 0, 0))
    UsdGeom.Imageable(stage.GetPrimAtPath("/proto")).MakeInvisible()
    for k in range(3):
        UsdGeom.Imageable(stage.GetPrimAtPath(f"/row/copy_{k}")).MakeVisible()
    guide = quad(stage, "/guide")
    guide.CreatePurposeAttr(UsdGeom.Tokens.guide)
    UsdGeom.Sphere.Define(stage, "/ball")
    stage.Save()
    scene = read_scene(tmp_path / "a.usdc")
    assert len(scene.meshes) == 1 and [n.mesh for n in scene.nodes] == [0, 0, 0]
    assert [float(n.matrix[0, 3]) for n in scene.nodes] == [0, 3, 6]
    assert any("1 of kind Sphere" in note for note in scene.notes)


def test_a_surface_with_pictures(tmp_path):
    """Colour with V up, roughness and metal in green and blue of one picture, a turn of coordinates, a clear coat, opacity of its own
    colour picture cut at a half."""
    stage = stage_at(tmp_path / "a.usda")
    picture(tmp_path / "bark.png", np.random.default_rng(1).integers(0, 255, (8, 8, 4)))
    picture(tmp_path / "mr.png", np.full((4, 4, 3), (0, 100, 200)))
    turn = (30.0, (2.0, 3.0), (0.1, 0.2))
    material = paint(
        stage, diffuseColor={"file": "./bark.png", "turn": turn, "wrap": "clamp"}, roughness={"file": "mr.png", "output": "g"},
        metallic={"file": "mr.png", "output": "b"}, opacity={"file": "./bark.png", "output": "a"}, opacityThreshold=0.5, ior=1.4,
        clearcoat=0.8, clearcoatRoughness=0.1, emissiveColor=(2.0, 1.0, 0.0),
    )  # fmt: skip
    UsdShade.MaterialBindingAPI.Apply(quad(stage).GetPrim()).Bind(material)
    stage.Save()
    scene = read_scene(tmp_path / "a.usda")
    (m,) = scene.materials
    assert m.alpha_mode == "MASK"
    assert (m.alpha_cutoff, m.ior, m.clearcoat, m.clearcoat_roughness) == pytest.approx((0.5, 1.4, 0.8, 0.1))
    assert m.emissive == pytest.approx((2, 1, 0)) and (m.roughness, m.metallic) == (1, 1)
    assert m.metallic_roughness_texture is not None and m.base_texture.wrap_u == "clamp"
    assert [i.pixels.shape for i in scene.images] == [(8, 8, 4), (4, 4, 4)]
    # UsdTransform2d, V up: scaled, turned by degrees, moved; ours runs down.
    u, v = 0.25, 0.5
    c, s = math.cos(math.radians(30)), math.sin(math.radians(30))
    due = np.array([c * 2 * u - s * 3 * v + 0.1, s * 2 * u + c * 3 * v + 0.2])
    np.testing.assert_allclose(m.base_texture.turned(np.array([u, 1 - v])), [due[0], 1 - due[1]], atol=1e-6)
    part = scene.meshes[0].primitives[0]
    low = int(np.argmin(part.positions @ [1, 1, 0]))
    np.testing.assert_allclose(part.attributes["TEXCOORD_0"][low], [0, 1], atol=1e-6)
    assert scene.notes == ()


def test_roughness_and_metal_of_pictures_apart_become_one(tmp_path):
    stage = stage_at(tmp_path / "a.usda")
    picture(tmp_path / "r.png", np.full((4, 4, 3), (90, 1, 2)))
    picture(tmp_path / "m.png", np.full((2, 2, 3), (3, 4, 250)))
    material = paint(stage, roughness={"file": "r.png", "output": "r"}, metallic={"file": "m.png", "output": "b"})
    UsdShade.MaterialBindingAPI.Apply(quad(stage).GetPrim()).Bind(material)
    stage.Save()
    scene = read_scene(tmp_path / "a.usda")
    (image,) = scene.images
    assert image.pixels.shape == (4, 4, 4) and (image.pixels[..., :3] == (255, 90, 250)).all()


def test_the_specular_way_is_specular_and_gloss(tmp_path):
    stage = stage_at(tmp_path / "a.usda")
    material = paint(stage, useSpecularWorkflow=1, diffuseColor=(0.3, 0.1, 0.08), specularColor=(0.04, 0.04, 0.04), roughness=0.6)
    UsdShade.MaterialBindingAPI.Apply(quad(stage).GetPrim()).Bind(material)
    stage.Save()
    (m,) = read_scene(tmp_path / "a.usda").materials
    assert m.gloss.glossiness == pytest.approx(0.4) and m.gloss.specular_rgb == pytest.approx((0.04,) * 3)


def test_cameras_and_lights(tmp_path):
    """A film of 15.2908 mm at 20 mm sees 41.84 degrees; a sun of half a degree and 50,000 nits; a ball of 0.2 m and 1,000 nits is
    pi r^2 L = 125.66 cd."""
    stage = stage_at(tmp_path / "a.usda")
    camera = UsdGeom.Camera.Define(stage, "/eye")
    camera.CreateVerticalApertureAttr(15.2908)
    camera.CreateFocalLengthAttr(20.0)
    sun = UsdLux.DistantLight.Define(stage, "/sun")
    sun.CreateIntensityAttr(50_000.0)
    sun.CreateAngleAttr(0.5)
    ball = UsdLux.SphereLight.Define(stage, "/lamp")
    ball.CreateRadiusAttr(0.2)
    ball.CreateIntensityAttr(500.0)
    ball.CreateExposureAttr(1.0)
    quad(stage)
    stage.Save()
    scene = read_scene(tmp_path / "a.usda")
    assert math.degrees(scene.cameras[0].fov_y_rad) == pytest.approx(41.84, abs=0.01)
    by = {light.kind: light.intensity for light in scene.lights}
    assert by["point"] == pytest.approx(math.pi * 0.04 * 1000, rel=1e-5)
    assert by["directional"] == pytest.approx(50_000 * math.pi * math.sin(math.radians(0.25)) ** 2, rel=1e-4)


def test_what_is_to_be_subdivided_is_its_cage_and_said_so(tmp_path):
    """Unset is Catmull and Clark: normals are smooth, whatever the file's are."""
    stage = stage_at(tmp_path / "a.usda")
    bent = [(-1, 0, 0), (0, 1, 0), (1, 0, 0), (-1, 0, 2), (0, 1, 2), (1, 0, 2)]
    quad(stage, scheme=None, points=bent, counts=(4, 4), corners=(0, 1, 4, 3, 1, 2, 5, 4))
    stage.Save()
    scene = read_scene(tmp_path / "a.usda")
    assert any("as their cages, smooth: 1 meshes" in note and "/gate/board" in note for note in scene.notes)
    part = scene.meshes[0].primitives[0]
    ridge = part.attributes["NORMAL"][np.abs(part.positions[:, 0]) < 1e-6]
    np.testing.assert_allclose(np.abs(ridge), np.tile([0, 1, 0], (len(ridge), 1)), atol=1e-6)


def test_layers_beside_it_are_read_and_those_of_elsewhere_are_not(tmp_path):
    """A referenced layer in a folder that names one more; an absolute and a climbing path are cut off, and said."""
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "parts").mkdir()
    inner = stage_at(tmp_path / "in" / "parts" / "board.usda")
    inner.SetDefaultPrim(quad(inner, "/board").GetPrim())
    inner.Save()
    secret = stage_at(tmp_path / "secret.usda")
    secret.SetDefaultPrim(quad(secret, "/secret").GetPrim())
    secret.Save()
    stage = stage_at(tmp_path / "in" / "gate.usda")
    for name, asset in (
        ("near", "./parts/board.usda"),
        ("far", str(tmp_path / "secret.usda")),
        ("climbs", "../secret.usda"),
        ("lost", "x.usda"),
    ):
        stage.DefinePrim(f"/{name}").GetReferences().AddReference(asset)
    stage.Save()
    scene = read_scene(tmp_path / "in" / "gate.usda")
    assert len(scene.nodes) == 1
    assert (
        sum("it lies elsewhere" in note for note in scene.notes) == 2
        and sum("did not come along" in note for note in scene.notes) == 1
    )


def test_a_package_is_drawn_and_handed_over_as_glb(tmp_path, capsys):
    """usdz: its pictures are in it; the frame shows the colour, and what is written is a GLB."""
    stage = stage_at(tmp_path / "a.usda")
    picture(tmp_path / "red.png", np.full((2, 2, 3), (255, 0, 0)))
    material = paint(stage, diffuseColor=(0, 0, 0), emissiveColor={"file": "red.png"})
    UsdShade.MaterialBindingAPI.Apply(quad(stage).GetPrim()).Bind(material)
    camera = UsdGeom.Camera.Define(stage, "/eye")
    UsdGeom.Xformable(camera).AddTranslateOp().Set((0, 0, 3))
    stage.Save()
    assert UsdUtils.CreateNewUsdzPackage(Sdf.AssetPath(str(tmp_path / "a.usda")), str(tmp_path / "a.usdz"))
    build = open_build(tmp_path / "a.usdz")
    frame = Renderer().frame(build, Request("eye", (32, 18)))
    assert frame.linear[9, 16, 0] > 0.9 and frame.linear[9, 16, 1:].max() < 0.1
    assert main(["intake", str(tmp_path / "a.usdz")]) == 0 and "viewpoints" in capsys.readouterr().out
    (tmp_path / "out.glb").write_bytes(write_glb(build.scene, build.scene))
    again = Renderer().frame(open_build(tmp_path / "out.glb"), Request("eye", (32, 18)))
    np.testing.assert_allclose(again.linear, frame.linear, atol=1e-6)


MESH = """#usda 1.0
(
    metersPerUnit = 1
)
def Mesh "m"
{
    int[] faceVertexCounts = [3]
    int[] faceVertexIndices = %s
    point3f[] points = [(0, 0, 0), (1, 0, 0)]
}
"""


@pytest.mark.parametrize(
    ("text", "rule"),
    [(MESH % "[0, 1]", "its faces have 3 corners, 2 are listed"), (MESH % "[0, 1, 9]", "does not exist"), (MESH[:90], "USD cannot read it"),
     (MESH.replace("metersPerUnit = 1", "metersPerUnit = -1") % "[0, 1, 0]", "metersPerUnit is -1")],
)  # fmt: skip
def test_lies_are_one_error(tmp_path, text, rule):
    (tmp_path / "a.usda").write_text(text)
    with pytest.raises(SceneError, match=rule) as said:
        read_scene(tmp_path / "a.usda")
    assert len(str(said.value).splitlines()) == 1 and str(tmp_path) not in str(said.value)


def test_without_the_package_it_says_what_is_missing(tmp_path):
    (tmp_path / "a.usda").write_text("#usda 1.0\n")
    code = (
        "import sys; sys.modules['pxr'] = None\n"
        "from eddyfall.core.scene.read.gltf import read_scene\n"
        "from eddyfall.core.errors import SceneError\n"
        "try: read_scene(sys.argv[1])\n"
        "except SceneError as error: print(error)"
    )
    said = subprocess.run(
        [sys.executable, "-c", code, str(tmp_path / "a.usda")], capture_output=True, text=True, check=True
    ).stdout
    assert "usd-core" in said and "./run usd" in said and len(said.splitlines()) == 1

"""Conversions and twins over the API: what the commands say, pictures of both, kept as changes of the ledger."""

import io
from dataclasses import replace

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image

from api_helpers import bring, send, upload
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Gloss, Material, Node, TextureUse
from eddyfall.core.scene.model import Image as ScenePicture
from eddyfall.demo.shapes import Shape
from eddyfall.workbench import tasks
from eddyfall.workbench.models import Build, Delivery, File
from eddyfall.workbench.services import builds
from glb_files import written_sign
from scenes import Thing, build_of, flat, glb_bytes, glb_parts, wall, write_build

SETUP = {
    "targets": {"desk": {}, "handheld": {}},
    "shaders": {
        "lacquer": {"works_on": ["desk"], "parameters": {"shine": {"role": "roughness", "how": "one_minus"}}},
        "signal": {"works_on": ["desk"], "parameters": {"blink": {"unit": "1/s"}}},
    },
    "materials": {
        "helmet": {"shader": "lacquer", "values": {"shine": {"value": 0.7}}},
        "lamp": {"shader": "signal", "values": {"blink": {"value": 2.0}}},
    },
}


def plate(x):
    return Shape().quad((x, -0.6, -8), (0.6, 0, 0), (0, 1.2, 0))


@pytest.fixture
def arrived(people, tmp_path):
    build = build_of(
        Thing("helmet", plate(-1.0), Material("helmet", metallic=0.0)), Thing("lamp", plate(-0.3), Material("lamp", metallic=0.0)),
        Thing("flask", plate(0.4), Material("flask", gloss=Gloss((0.2, 0.2, 0.2, 1), (0.08, 0.08, 0.08), 0.4))),
        Thing("wall", wall(12.0)), setup=SETUP,
    )  # fmt: skip
    return bring(people, write_build(build, tmp_path, "arrived"))


def test_what_a_target_lacks_is_told_converted_and_kept(arrived):
    status, told = send(arrived["viewer"], "GET", arrived["base"] + "/conversions?target=handheld")
    assert status == 200 and {r["material"]: r["kind"] for r in told["rows"]} == {
        "helmet": "converts", "lamp": "special", "flask": "converts"}  # fmt: skip
    assert told["special"] == ["lamp"]
    flask = next(r for r in told["rows"] if r["material"] == "flask")
    assert flask["factors"]["ior"] == pytest.approx(1.788788, abs=1e-5) and flask["factors"]["roughness"] == pytest.approx(0.6)
    helmet = next(r for r in told["rows"] if r["material"] == "helmet")
    assert [(m["name"], m["comes_to"], m["fate"]) for m in helmet["values"]] == [("shine", pytest.approx(0.3), "computed")]
    [seen] = told["seen"]
    assert seen["error_before"] > seen["error_after"] > 0 and seen["most_de"] <= 1.0
    pictures = [np.asarray(Image.open(io.BytesIO(_bytes(arrived, which)))) for which in ("before", "after")]
    lost = [int((p[..., :3] == (200, 86, 31)).all(axis=2).sum()) for p in pictures]
    assert lost == [seen["error_before"], seen["error_after"]]
    status, _ = send(arrived["artist"], "POST", arrived["base"] + "/ledger", {"change": told["change"]}, 1)
    assert status == 201
    left = send(arrived["viewer"], "GET", arrived["base"] + "/conversions?target=handheld")[1]
    assert [r["material"] for r in left["rows"]] == ["lamp"]
    alone = send(arrived["viewer"], "GET", arrived["base"] + "/conversions?target=handheld&material=lamp")[1]
    assert alone["seen"][0]["error_after"] == 0 and alone["rows"][0]["values"][0]["fate"] == "no place"


def test_a_frame_at_the_levels_of_detail_that_are_due(people, tmp_path):
    path = written_sign(tmp_path)
    sign = bring(people, path)
    [level] = send(sign["viewer"], "GET", sign["base"])[1]["facts"]["levels"]
    assert level == {"node": "sign", "levels": 3, "coverage": [0.25, 0.04, 0.01]}
    shown = []
    for asked in ("", "&levels=true"):
        answer = sign["viewer"].get(f"{sign['base']}/frames/at 8?width=64&height=64{asked}")
        shown.append(np.asarray(Image.open(io.BytesIO(answer.content)))[37, 32, :3].tolist())
    assert shown == [[255, 0, 0], [0, 255, 0]]


def test_usd_is_taken_and_read_in_the_child(people, tmp_path):
    """A board of a square metre in centimetres; one that names a layer of the machine's own is told that it was left out."""
    pytest.importorskip("pxr", reason="USD is an extra")
    board = """#usda 1.0
def Mesh "board" (prepend references = @%s@</x>)
{
    int[] faceVertexCounts = [4]
    int[] faceVertexIndices = [0, 1, 2, 3]
    point3f[] points = [(0, 0, 0), (100, 0, 0), (100, 100, 0), (0, 100, 0)]
}
"""
    (tmp_path / "other.usda").write_text("#usda 1.0\n")
    answer = upload(people["artist"], people["project"], (board % (tmp_path / "other.usda")).encode(), name="board.usda")
    assert answer.status_code == 201, answer.content
    facts = answer.json()["facts"]
    assert facts["triangles"] == 2 and facts["bounds_m"]["high"] == pytest.approx([1, 1, 0])
    assert any("it lies elsewhere" in note for note in facts["left_out"])
    broken = upload(people["artist"], people["project"], b"#usda 1.0\ndef Mesh {", name="board.usda")
    assert broken.status_code == 422 and "USD cannot read it" in broken.json()["detail"]
    assert str(tmp_path) not in str(broken.json()) and "/tmp" not in str(broken.json())


def _bytes(built, which):
    answer = built["viewer"].get(f"{built['base']}/conversions/frames/{which}/eye?target=handheld")
    assert answer.status_code == 200 and answer["Content-Type"] == "image/png"
    return answer.content


@pytest.mark.parametrize("asked", ["target=none", "to=none", "material=none"])
def test_names_that_do_not_exist_are_one_clear_error(arrived, asked):
    status, body = send(arrived["viewer"], "GET", arrived["base"] + f"/conversions?{asked}")
    assert status == 422 and "'none' does not exist" in body["detail"]


def test_a_twin_is_named_drawn_and_kept(people, tmp_path):
    post = Shape().box((-0.1, 0, -0.1), (0.1, 1.0, 0.1)).box((0.1, 0.6, -0.05), (0.3, 0.7, 0.05))
    build = build_of(
        *[Thing(f"post_{k}", post, flat("paint", 0.7), place=(k - 1.0, -0.5, -6)) for k in range(2)], Thing("wall", wall(12.0))
    )
    place = np.eye(4)
    place[:3, 3] = (1.0, -0.5, -6)
    path = write_build(build, tmp_path, "row")
    path.write_bytes(write_glb(replace(build.scene, nodes=(*build.scene.nodes, Node("post_2", place)))))
    built = bring(people, path)
    told = send(built["viewer"], "GET", built["base"] + "/twins")[1]["missing"]
    assert [(m["name"], m["like"]) for m in told] == [("post_2", "post_0")]
    best = told[0]["twins"][0]
    assert (
        best["mesh"].startswith("post_")
        and best["apart_mm"] < 0.1
        and best["outline"]["size"] == pytest.approx([400, 1000, 200], rel=1e-5)
    )
    without, stands = (built["viewer"].get(f"{built['base']}/twins/post_2/picture{q}").content for q in ("", "?rank=0"))
    assert without != stands
    assert send(built["viewer"], "GET", built["base"] + "/twins/post_2/picture?rank=40")[0] == 422
    assert send(built["viewer"], "GET", built["base"] + "/twins/nothing/picture")[0] == 422
    assert send(built["viewer"], "GET", built["base"] + "/twins?older=7")[0] == 404
    assert send(built["artist"], "POST", built["base"] + "/ledger", {"change": best["change"]}, 1)[0] == 201
    assert send(built["viewer"], "GET", built["base"] + "/twins")[1]["missing"] == []


def test_a_twin_of_the_older_build_is_brought_along(people, tmp_path):
    """An elbow that only the build before has: asked for by itself, shown in its place, kept; the ledger does not send its mesh about."""
    elbow = Shape().box((-0.1, 0, -0.1), (0.1, 0.8, 0.1)).box((0.1, 0.6, -0.1), (0.9, 0.8, 0.1))
    pipe = Thing("pipe", Shape().box((-0.1, -1, -6.1), (0.1, 0, -5.9)), flat("brass", 0.4))
    first = build_of(pipe, Thing("elbow", elbow, flat("brass", 0.4), place=(0, 0, -6)), Thing("wall", wall(12.0)))
    bring(people, write_build(first, tmp_path, "first"))
    gone = next(i for i, n in enumerate(first.scene.nodes) if n.name == "elbow")
    nodes = [replace(n, mesh=None) if i == gone else n for i, n in enumerate(first.scene.nodes)]
    nodes = [replace(n, mesh=n.mesh - (n.mesh > first.scene.nodes[gone].mesh)) if n.mesh is not None else n for n in nodes]
    meshes = tuple(m for i, m in enumerate(first.scene.meshes) if i != first.scene.nodes[gone].mesh)
    second = replace(first, scene=replace(first.scene, nodes=tuple(nodes), meshes=meshes))
    built = bring(people, write_build(second, tmp_path, "second"))
    [lost] = send(built["viewer"], "GET", built["base"] + "/twins?older=1")[1]["missing"]
    rank = next(i for i, t in enumerate(lost["twins"]) if t["mesh"] == "elbow")
    assert lost["name"] == "elbow" and rank == 0 and lost["twins"][0]["brought"] and lost["twins"][0]["change"] is None
    at = f"{built['base']}/twins/elbow"
    status, change = send(built["viewer"], "GET", f"{at}/change?rank=0&older=1")
    assert status == 200 and len(change["operation"]["params"]["of"]) > 100
    without, stands = (built["viewer"].get(f"{at}/picture?older=1{q}").content for q in ("", "&rank=0"))
    assert without != stands
    assert send(built["viewer"], "GET", f"{at}/change?rank=40&older=1")[0] == 422
    status, kept = send(built["artist"], "POST", built["base"] + "/ledger", {"change": change}, 1)
    assert status == 201, kept
    [row] = kept["kept"] if "kept" in kept else kept["changes"]
    assert row["document"]["operation"]["params"]["of"].endswith(" characters")
    change["operation"]["params"]["of"] *= 4
    assert send(built["artist"], "POST", built["base"] + "/ledger", {"change": change | {"id": "y"}}, 2)[0] == 409
    assert send(built["viewer"], "GET", built["base"] + "/twins?older=1")[1]["missing"] == []


def coded(value):
    stream = io.BytesIO()
    Image.fromarray(np.full((8, 8, 3), value, np.uint8)).save(stream, "PNG")
    return stream.getvalue()


@pytest.fixture
def bare(people, tmp_path):
    """A board whose picture is on another machine."""
    board = Material("board", base_texture=TextureUse(0), unlit=True)
    build = build_of(Thing("board", plate(-0.3), board), images=(ScenePicture("board", np.full((8, 8, 4), 90, np.uint8)),))
    path = write_build(build, tmp_path, "bare")
    document, binary = glb_parts(path.read_bytes())
    document["images"] = [{"uri": "D:/textures/board_albedo.png"}]
    path.write_bytes(glb_bytes(document, binary))
    return bring(people, path)


def test_pictures_that_come_later_are_a_delivery_that_is_rehearsed_and_accepted(bare):
    files = {"pictures": [SimpleUploadedFile("Board_BaseColor_2k.png", coded(200)), SimpleUploadedFile("moss.png", coded(20))]}
    answer = bare["artist"].post(bare["base"] + "/supply", files)
    assert answer.status_code == 202, answer.content
    told = answer.json()
    assert [(f["picture"], f["how"], f["uses"]) for f in told["supply"]["found"]] == [
        ("Board_BaseColor_2k.png", "a name alike", [["board", "base"]])]  # fmt: skip
    assert told["supply"]["left"] == ["moss.png"] and told["delivery"]["scene"] == "nets with 1 picture.glb"
    tasks.delivery(job_id=told["delivery"]["job"]["id"])
    path = f"{bare['base']}/deliveries/{told['delivery']['id']}"
    result = send(bare["viewer"], "GET", path)[1]["result"]
    assert result["views"][0]["differs"] > 0.001
    status, made = send(bare["artist"], "POST", path + "/accept", {}, result["stamp"])
    assert status == 201
    scene = builds.open_core(Build.objects.get(number=made["number"])).scene
    assert scene.missing == () and (scene.images[0].pixels[..., :3] == 200).all()


def test_what_finds_no_place_or_is_no_picture_is_told_and_stores_nothing(bare):
    before = Delivery.objects.count(), File.objects.count()
    post = lambda *named: bare["artist"].post(  # noqa: E731
        bare["base"] + "/supply", {"pictures": [SimpleUploadedFile(n, d) for n, d in named]}
    )
    normal = io.BytesIO()
    Image.fromarray(np.full((8, 8, 3), (128, 128, 255), np.uint8)).save(normal, "PNG")
    answer = post(("bumps.png", normal.getvalue()))
    assert answer.status_code == 202 and answer.json()["delivery"] is None and answer.json()["supply"]["left"] == ["bumps.png"]
    for files, says in (
        ([("a.png", b"none")], "a.png"),
        ([("a.png", coded(1)), ("a.png", coded(2))], "a.png: it is supplied twice"),
    ):
        answer = post(*files)
        assert answer.status_code == 422 and says in answer.json()["detail"]
    assert bare["viewer"].post(bare["base"] + "/supply", {"pictures": SimpleUploadedFile("a.png", coded(1))}).status_code == 403
    assert (Delivery.objects.count(), File.objects.count()) == before

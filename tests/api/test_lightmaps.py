"""The Lightmaps sheet over the API on real PostgreSQL: what is shown is the command line's; bakes are jobs that keep what they finish."""

import base64
import io
import json
import zipfile
from urllib.parse import quote

import numpy as np
import pytest
from PIL import Image

from api_helpers import send, upload
from bake_scenes import UNIT_PAGE, baked_setup, matt, panel, under_a_partition
from eddyfall.cli import main
from eddyfall.core.bake.maps.store import STORE
from eddyfall.core.scene.model import Light
from eddyfall.workbench import jobs, tasks
from eddyfall.workbench.models import Bake, Change, Job, Package
from eddyfall.workbench.studio.room import STUDIO
from eddyfall.workbench.upkeep import kept_light
from scenes import build_of, write_build

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture(autouse=True)
def own_store(tmp_path, monkeypatch):
    monkeypatch.setattr(STORE, "folder", tmp_path / "bakes")
    STORE._held.clear()


def work_off():
    for job in Job.objects.filter(state=Job.WAITING).order_by("id"):
        getattr(tasks, job.kind)(job_id=job.pk)


def bring(people, build, tmp_path, name="floor"):
    path = write_build(build, tmp_path, name)
    answer = upload(people["artist"], people["project"], path.read_bytes(), path.with_suffix(".setup.json").read_bytes())
    assert answer.status_code == 201, answer.content
    people["base"] = f"/api/projects/{people['project'].pk}/builds/{answer.json()['number']}"
    people["path"] = path
    return people


@pytest.fixture
def partition(people, tmp_path):
    return bring(people, under_a_partition(64), tmp_path)


@pytest.fixture
def baked(partition):
    status, body = send(partition["artist"], "POST", partition["base"] + "/bakes", {})
    assert status == 201, body
    work_off()
    return partition


def three_floors():
    """Three floors far from each other, a lamp over each."""
    floors = [panel(f"floor_{k}", (50.0 * k, 0, 2), (2, 0, 0), (0, 0, -2), matt(f"f{k}", 0.5), UNIT_PAGE) for k in range(3)]
    lamps = tuple((Light(f"lamp_{k}", "point", intensity=50.0, range_m=10.0), (50.0 * k + 1, 2.0, 1.0)) for k in range(3))
    return build_of(*floors, setup=baked_setup(floors, resolution=8, samples=4, bounces=0), lamps=lamps)


def command(capsys, *args):
    main([*map(str, args), "--json", "-"])
    return json.loads(capsys.readouterr().out)


def state_of(people, asset=0):
    return send(people["viewer"], "GET", people["base"] + "/lightmaps")[1]["assets"][asset]["maps"][0]["state"]


def test_the_sheet_says_what_the_command_line_says(partition, capsys):
    sheet = send(partition["viewer"], "GET", partition["base"] + "/lightmaps")[1]
    theirs = command(capsys, "charts", partition["path"])["assets"][0]
    [mine] = sheet["assets"]
    for key in ("asset", "resolution", "triangles", "overlap", "page_texels_per_m", "gutter_texels", "memory_bytes"):
        assert mine[key] == theirs[key], key
    assert mine["charts"] == len(theirs["charts"]) and mine["maps"][0]["state"] == "missing"
    assert sheet["memory"] == [{"target": None, "bytes": 64 * 64 * 8}]
    page = send(partition["viewer"], "GET", partition["base"] + "/lightmaps/floor/page")[1]
    assert page["report"] == command(capsys, "charts", partition["path"], "--asset", "floor")
    corners = np.frombuffer(base64.b64decode(page["geometry"]["triangles"]), "<f4").reshape(-1, 3, 2)
    assert corners.shape[0] == 2 and corners[..., 0].max() == 1 and corners[..., 1].min() == pytest.approx(1 - 4 / 64)


def test_a_bake_is_kept_and_why_is_the_command_lines(baked, tmp_path, capsys):
    row = send(baked["viewer"], "GET", baked["base"] + "/bakes")[1][0]
    assert row["job"]["state"] == "done" and row["done"] == [["floor", None]] and row["rays"] > 0
    assert state_of(baked) == "fresh"
    assert send(baked["artist"], "POST", baked["base"] + "/bakes", {})[0] == 409, "nothing is left to bake"
    main(["bake", str(baked["path"]), "--out", str(tmp_path / "out")])
    capsys.readouterr()
    theirs = command(capsys, "why", tmp_path / "out" / "floor.glb", "--asset", "floor", "--texel", "30,62")
    mine = send(baked["viewer"], "GET", baked["base"] + "/lightmaps/floor/why?x=30&y=62")[1]
    assert mine == theirs and mine["effects"][0]["code"] == "bake.leak"
    # The worked case of faults in a finished bake: .335 lx where .05 belongs, 120 mm past the partition.
    assert mine["value_lux"] == pytest.approx(0.335, abs=0.02)
    assert mine["effects"][0]["facts"]["reach_linear_mm"] == pytest.approx(120, abs=1)
    [leak] = send(baked["viewer"], "GET", baked["base"] + "/lightmaps/floor/leaks")[1]
    assert leak["occluder"] == "partition" and {t % 64 for t in leak["texels"]} == {30}
    assert send(baked["viewer"], "GET", baked["base"] + "/lightmaps/floor/why?x=64&y=0")[0] == 422
    assert send(baked["viewer"], "GET", baked["base"] + "/lightmaps/roof/why?x=6&y=0")[0] == 422


def test_a_map_is_shown_as_it_is_stored_and_otherwise(baked):
    url = baked["base"] + "/lightmaps/floor/map.png"

    def shown(**query):
        answer = baked["viewer"].get(url, query)
        assert answer.status_code == 200, answer.content
        return np.asarray(Image.open(io.BytesIO(answer.content))).astype(int), float(answer["X-White-Lux"])

    plain, white = shown()
    assert plain.shape == (64, 64, 3) and 0.9 < white <= 1.01
    # The dark side, lit up to white: .05 lx of 1 lx is code 63.0 of 255, so the rounding shows only when one looks closely.
    coarse, fine = shown(encoding="srgb8", white=0.0501)[0], shown(white=0.0501)[0]
    assert 0 < np.abs(coarse - fine).max() <= 5
    near, _ = shown(magnify=8, white=white)
    assert (near[::8, ::8] == plain).all()
    smooth, _ = shown(magnify=8, white=white, filter="linear")
    row = smooth[62 * 8 + 4, :, 0]
    step = np.flatnonzero(np.abs(np.diff(row)) > 0)
    assert step.max() - step.min() > 12, "the two sides run into each other over more than a texel"
    assert baked["viewer"].get(baked["base"] + "/lightmaps/floor/map.exr").content[:4] == b"\x76\x2f\x31\x01"
    assert baked["viewer"].get(url, {"light_set": "none such"}).status_code == 404


def test_pixels_know_their_texels(baked, capsys):
    data = baked["viewer"].get(baked["base"] + "/texels/eye?width=96&height=54").content
    names = int.from_bytes(data[:4], "little")
    assert json.loads(data[4 : 4 + names]) == ["floor"]
    which, place = data[4 + names :][: 96 * 54 * 4], data[4 + names + 96 * 54 * 4 :]
    which, place = np.frombuffer(which, "<i4").reshape(54, 96), np.frombuffer(place, "<f4").reshape(54, 96, 2)
    for x, y in ((20, 40), (30, 50), (70, 45)):
        found = send(baked["viewer"], "GET", f"{baked['base']}/core-sample/eye?x={x * 10 + 5}&y={y * 10 + 5}")[1]
        lit = [layer["facts"]["lightmap"] for layer in found["layers"] if "lightmap" in layer["facts"]]
        assert bool(lit) == (which[y, x] == 0)
        if lit:
            assert np.abs(place[y, x] * 64 - np.array(lit[0]["texel"]) - 0.5).max() < 1.2


def test_splitting_the_chart_makes_the_map_stale_and_a_bake_mends_it(baked):
    send(baked["artist"], "POST", baked["base"] + "/sweeps", {})
    work_off()
    sweep = send(baked["viewer"], "GET", f"{baked['base']}/sweeps/{Job.objects.get(kind='sweep').sweep.pk}")[1]
    finding = next(f for f in sweep["items"] if f["document"]["code"] == "bake.leak")
    case = send(baked["artist"], "POST", baked["base"] + "/cases", {"finding": finding["id"]})[1]
    url = f"{baked['base']}/cases/{case['number']}"
    assert baked["viewer"].get(f"{url}/frames/remedy:0?width=64&height=36").status_code == 200
    assert send(baked["artist"], "POST", url + "/keep", {"remedy": 0}, case["version"])[0] == 200
    assert state_of(baked) == "stale"
    send(baked["artist"], "POST", baked["base"] + "/bakes", {"assets": ["floor"]})
    work_off()
    assert state_of(baked) == "fresh"
    assert send(baked["viewer"], "GET", baked["base"] + "/lightmaps/floor/leaks")[1] == []
    send(baked["artist"], "POST", url + "/proofs", {})
    work_off()
    proof = send(baked["viewer"], "GET", url)[1]["proof"]["result"]
    assert proof["proved"], proof
    ledger = send(baked["viewer"], "GET", baked["base"] + "/ledger")[1]
    assert [c["document"]["operation"]["name"] for c in ledger["changes"]] == ["bake.run", "uv.split", "bake.run"]


def test_a_kept_bake_is_applied_from_the_store_and_is_stale_without_it(baked):
    STUDIO.memory.clear()
    assert state_of(baked) == "fresh"
    for path in STORE.folder.glob("*/*.npz"):
        path.unlink()
    STORE._held.clear()
    STUDIO.memory.clear()
    assert state_of(baked) == "missing", "nothing is traced while a user waits"


def test_what_is_handed_over_does_not_depend_on_what_light_is_at_hand(baked):
    """The cache is trimmed to nothing between two hand overs of one head: both hold the same lightmaps."""
    packages = []
    for trimmed in (False, True):
        if trimmed:
            STORE.trim(0, needed=kept_light())
            left = {path.stem for path in STORE.folder.glob("*/*.npz")}
            assert left == kept_light() != set(), "light that a kept bake needs stays"
            assert STORE.trim(0) == len(left)
            STORE._held.clear()
            STUDIO.memory.clear()
            Package.objects.all().delete()
        status, package = send(baked["artist"], "POST", baked["base"] + "/hand-over", {})
        assert status == 201, package
        work_off()
        answer = baked["viewer"].get(f"{baked['base']}/hand-over/{package['id']}")
        with zipfile.ZipFile(io.BytesIO(b"".join(answer.streaming_content))) as archive:
            packages.append({name: archive.read(name) for name in archive.namelist() if name.endswith((".glb", "setup.json"))})
    assert packages[0].keys() == packages[1].keys() and packages[0] == packages[1]
    assert any(b"lightmap floor" in data for data in packages[0].values())


def test_a_cancelled_bake_keeps_what_it_has_finished(people, tmp_path, monkeypatch):
    bring(people, three_floors(), tmp_path)
    monkeypatch.setattr(jobs, "TELL_EVERY_S", 0)
    send(people["artist"], "POST", people["base"] + "/bakes", {})
    first = jobs.Attempt.progress

    def told(self, what, share):
        if "floor_1" in what:
            Job.objects.update(cancel_asked=True)
        first(self, what, share)

    monkeypatch.setattr(jobs.Attempt, "progress", told)
    tasks.bake(job_id=Job.objects.get(kind="bake").pk)
    row = Bake.objects.get()
    assert row.job.state == "cancelled" and row.done == [["floor_0", None]] and "1 of 3" in row.job.message
    assert [state_of(people, k) for k in range(3)] == ["fresh", "missing", "missing"]
    monkeypatch.setattr(jobs.Attempt, "progress", first)
    status, again = send(people["artist"], "POST", people["base"] + "/bakes", {"assets": ["floor_2"]})
    assert status == 201 and again["wanted"] == [["floor_2", None]]
    work_off()
    assert [state_of(people, k) for k in range(3)] == ["fresh", "missing", "fresh"]


def test_what_is_asked_of_a_bake_must_exist(people, tmp_path):
    bring(people, three_floors(), tmp_path)
    for bad in ({"assets": ["roof"]}, {"light_sets": ["night"]}):
        assert send(people["artist"], "POST", people["base"] + "/bakes", bad)[0] == 404, bad
    assert send(people["viewer"], "POST", people["base"] + "/bakes", {})[0] == 403
    assert send(people["artist"], "POST", people["base"] + "/bakes", {})[0] == 201
    assert send(people["artist"], "POST", people["base"] + "/bakes", {})[0] == 409, "one at a time"


def test_a_change_of_the_sheet_is_kept_on_the_version_it_was_made_on(partition):
    change = {
        "id": "finer",
        "title": "finer floor",
        "scope": "mesh",
        "operation": {"name": "uv.pack", "params": {"mesh": "floor"}},
    }
    url = partition["base"] + "/ledger"
    assert send(partition["artist"], "POST", url, {"change": change})[0] == 428
    assert send(partition["artist"], "POST", url, {"change": {"id": "x"}}, 1)[0] == 422
    assert send(partition["artist"], "POST", url, {"change": {**change, "scope": "planet"}}, 1)[0] == 422
    wrong = {**change, "operation": {"name": "uv.pack", "params": {"mesh": "no such"}}}
    assert send(partition["artist"], "POST", url, {"change": wrong}, 1)[0] == 409
    status, ledger = send(partition["artist"], "POST", url, {"change": change, "reason": "more texels"}, 1)
    assert status == 201 and ledger["version"] == 2 and ledger["changes"][0]["reason"] == "more texels"
    status, conflict = send(partition["lead"], "POST", url, {"change": {**change, "id": "again"}}, 1)
    assert status == 409 and conflict["current"]["version"] == 2
    assert Change.objects.count() == 1


def test_what_if_shows_the_page_and_keeps_nothing(partition):
    change = {"id": "x", "scope": "mesh", "operation": {"name": "uv.pack", "params": {"mesh": "floor", "texels_per_m": 5}}}
    status, after = send(partition["viewer"], "POST", partition["base"] + "/lightmaps/floor/what-if", {"change": change})
    assert status == 200 and after["report"]["texels_per_m"] == pytest.approx(5, rel=1e-3) and after["others"] == []
    assert Change.objects.count() == 0
    change["operation"]["params"]["texels_per_m"] = 1000
    status, refused = send(partition["viewer"], "POST", partition["base"] + "/lightmaps/floor/what-if", {"change": change})
    assert status == 422 and "do not fit" in refused["detail"]
    assert send(partition["viewer"], "GET", partition["base"] + "/lightmaps/floor/copies")[1] == {"rules": {}, "remedies": []}


def test_assets_of_any_name(people, tmp_path):
    name = "hall / floor #1 (50 %) ü"
    floor = panel(name, (0, 0, 2), (2, 0, 0), (0, 0, -2), matt("f", 0.5), UNIT_PAGE)
    bring(people, build_of(floor, setup=baked_setup([floor], resolution=8, samples=4, bounces=0)), tmp_path)
    url = f"{people['base']}/lightmaps/{quote(name, safe='')}"
    assert send(people["viewer"], "GET", url + "/page")[1]["report"]["asset"] == name
    assert send(people["artist"], "POST", people["base"] + "/bakes", {"assets": [name]})[0] == 201
    work_off()
    assert people["viewer"].get(url + "/map.png").status_code == 200
    assert send(people["viewer"], "GET", url + "/why?x=3&y=3")[1]["asset"] == name


def test_what_is_worth_baking(partition, capsys):
    found = send(partition["viewer"], "GET", partition["base"] + "/worth-baking")[1]
    theirs = command(capsys, "bake", partition["path"], "--plan")
    assert {c["node"]: c["why"] for c in found["candidates"]} == {c["node"]: c["why"] for c in theirs["candidates"]}
    assert found["memory_bytes"] == theirs["memory_bytes"] and found["triangles_per_s"] > 0


@pytest.mark.parametrize(
    ("path", "status", "says"),
    [
        ("/lightmaps?target=slate", 422, "slate"),
        ("/lightmaps/floor/page?target=slate", 422, "slate"),
        ("/lightmaps/flor/page", 422, "flor"),
        ("/lightmaps/floor/leaks?light_set=night", 404, "night"),
        ("/lightmaps/floor/why?x=-1&y=0", 422, "does not lie in the 64 x 64 lightmap"),
        ("/lightmaps/floor/why?x=1", 422, None),
        ("/lightmaps/floor/why?x=one&y=2", 422, None),
        ("/lightmaps/floor/map.png", 422, "bake it first"),
        ("/lightmaps/floor/map.exr", 422, "bake it first"),
        ("/lightmaps/floor/map.png?magnify=65", 422, None),
        ("/lightmaps/floor/map.png?filter=sharp", 422, None),
        ("/lightmaps/floor/map.png?white=0", 422, None),
        ("/lightmaps/floor/copies?state=later", 422, None),
        ("/texels/nowhere", 422, "nowhere"),
        ("/texels/eye?width=0", 422, "size 0 x 270 px"),
        ("/texels/eye?width=96&height=-3", 422, "size 96 x -3 px"),
        ("/worth-baking?light_set=night", 404, "night"),
    ],
)
def test_a_bad_question_is_answered_in_one_line(partition, path, status, says):
    got, body = send(partition["viewer"], "GET", partition["base"] + path)
    assert got == status, body
    assert isinstance(body["detail"], str) and "\n" not in body["detail"]
    assert says is None or says in body["detail"]


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({}, None),
        ({"id": "x", "scope": "mesh"}, "neither a patch nor an operation"),
        ({"id": "x", "scope": "mesh", "operation": {"name": "uv.fold", "params": {"mesh": "floor"}}}, "uv.fold"),
        ({"id": "x", "scope": "mesh", "operation": {"name": "uv.pack", "params": {"mesh": "roof"}}}, "roof"),
        ({"id": "x", "scope": "mesh", "operation": {"name": "uv.pack", "params": {"mesh": "floor", "safe_mip": 40}}}, "safe_mip"),
    ],
)
def test_a_change_that_cannot_be_made_is_refused_and_leaves_the_build_as_it_was(partition, change, says):
    for path, version in (("/lightmaps/floor/what-if", None), ("/ledger", 1)):
        body = {"change": change, "evidence": {}, "reason": ""} if path == "/ledger" else {"change": change}
        status, answer = send(partition["artist"], "POST", partition["base"] + path, body, version)
        assert status in (404, 409, 422), (path, status, answer)
        assert says is None or says in answer["detail"]
    build = send(partition["viewer"], "GET", partition["base"])[1]
    assert (build["version"], build["kept"]) == (1, 0)


def test_a_viewer_looks_and_does_not_bake(partition):
    for path, body in (("/bakes", {}), ("/ledger", {"change": {}, "evidence": {}, "reason": ""})):
        assert send(partition["viewer"], "POST", partition["base"] + path, body, 1)[0] == 403
    assert not Bake.objects.exists() and not Change.objects.exists()


def test_a_case_of_a_lightmap_is_filed_under_what_one_sees(baked):
    send(baked["artist"], "POST", baked["base"] + "/sweeps", {})
    work_off()
    sweep = send(baked["viewer"], "GET", baked["base"] + "/sweeps")[1][0]
    items = send(baked["viewer"], "GET", f"{baked['base']}/sweeps/{sweep['id']}")[1]["items"]
    leak = next(f for f in items if f["document"]["code"] == "bake.leak")
    assert leak["document"]["symptom"] == "light leaks" and leak["has_picture"]
    status, case = send(baked["artist"], "POST", baked["base"] + "/cases", {"finding": leak["id"], "spot": [400, 200, 80, 60]})
    assert status == 201 and case["symptom"] == "light leaks"
    told = {s["name"]: s["scored"] for s in send(baked["viewer"], "GET", "/api/symptoms")[1]}
    assert told["light leaks"] == "no" and told["see-through"] == "yes"
    answer = baked["artist"].post(f"{baked['base']}/cases/{case['number']}/line-up", "{}", "application/json")
    words = b"".join(answer.streaming_content).decode() if answer.streaming else answer.content.decode()
    assert "has no score yet" in words and "see-through" in words

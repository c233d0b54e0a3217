"""A delivery over the API: rehearsed, answered, accepted exactly as rehearsed, or let go with nothing changed."""

import io
import json

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image

from api_helpers import bring, send
from deliveries import MOVED, YARD, ledger, second
from eddyfall.core.delivery.carry import carry
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.workbench import files, tasks
from eddyfall.workbench.models import Build, Case, Delivery, File, Job
from eddyfall.workbench.services import builds
from scenes import write_build


@pytest.fixture
def kept(people, tmp_path):
    """The yard brought in, with three edits kept and a case open."""
    built = bring(people, write_build(YARD, tmp_path, "yard"))
    for change in (*ledger(YARD, ("nodes.box_1.draw_rank", 4), ("materials.clear.double_sided", True)), MOVED):
        version = send(built["artist"], "GET", built["base"] + "/ledger")[1]["version"]
        status, body = send(
            built["artist"], "POST", built["base"] + "/ledger", {"change": change.model_dump(mode="json")}, version
        )
        assert status == 201, body
    case = {"title": "pane", "viewpoint": "eye", "symptom": "see-through"}
    assert send(built["artist"], "POST", built["base"] + "/cases", case)[0] in (200, 201)
    Case.objects.update(subject="pane")
    return built


def deliver(built, data, name="second.glb", setup=None, who="artist"):
    form = {"scene": SimpleUploadedFile(name, data)} | ({"setup": SimpleUploadedFile("s.json", setup)} if setup else {})
    return built[who].post(built["base"] + "/deliveries", form)


def rehearsed(built, answer):
    """What the worker does with it, and what is told then."""
    told = answer.json() if hasattr(answer, "json") else answer
    tasks.delivery(job_id=told["job"]["id"])
    return send(built["viewer"], "GET", f"{built['base']}/deliveries/{told['id']}")[1]


def state(built):
    """All of a build that a delivery might touch."""
    return (
        send(built["viewer"], "GET", built["base"])[1], send(built["viewer"], "GET", built["base"] + "/ledger")[1],
        Build.objects.count(), sorted(File.objects.values_list("sha256", flat=True)),
    )  # fmt: skip


def test_a_delivery_is_rehearsed_answered_and_accepted_as_rehearsed(kept, tmp_path):
    path, names = second(tmp_path)
    before = state(kept)[:2]
    told = rehearsed(kept, deliver(kept, path.read_bytes()))
    fates = {e["path"].split(" ")[0]: e["fate"] for e in told["result"]["edits"]}
    assert fates == {"nodes.box_1.draw_rank": "moved", "materials.clear.double_sided": "moved", "node.move": "asked"}
    assert told["result"]["unanswered"] == ["lamp:0"] and told["accepted"] is None and not told["behind"]
    assert {v["viewpoint"] for v in told["result"]["views"]} == {"eye", "cam"}
    where = f"{kept['base']}/deliveries/{told['id']}"
    status, body = send(kept["artist"], "POST", where + "/accept", None, told["result"]["stamp"])
    assert status == 409 and "1 edits are still asked: lamp:0" in body["detail"]
    status, body = send(kept["artist"], "POST", where + "/answers", {"answers": {"lamp:0": "delivered"}})
    assert status == 202
    again = rehearsed(kept, body)
    assert again["result"]["unanswered"] == [] and again["result"]["stamp"] != told["result"]["stamp"]
    status, body = send(kept["artist"], "POST", where + "/accept", None, told["result"]["stamp"])
    assert status == 409 and "rehearsed anew" in body["detail"]
    assert state(kept)[:2] == before and Build.objects.count() == 1
    status, made = send(kept["artist"], "POST", where + "/accept", None, again["result"]["stamp"])
    assert status == 201 and made["number"] == 2, made
    after = f"/api/projects/{kept['project'].pk}/builds/2"
    row = Build.objects.select_related("parent").get(number=2)
    assert row.parent.number == 1
    core = carry(builds.open_core(Build.objects.get(number=1)), builds.core_changes(builds.kept(Build.objects.get(number=1))),
                 read_scene(path), answers={"lamp:0": "delivered"})  # fmt: skip
    head = builds.head(row)
    assert head.setup == core.result.setup and head.scene.content_hash == core.result.scene.content_hash
    rows = send(kept["viewer"], "GET", after + "/ledger")[1]["changes"]
    assert [r["title"] for r in rows] == ["nodes.box_1.draw_rank", "materials.clear.double_sided"]
    cases = send(kept["viewer"], "GET", after + "/cases")[1]
    assert [c["title"] for c in cases] == ["pane"] and row.cases.get().subject == names["pane"]
    assert state(kept)[0] == before[0] and send(kept["viewer"], "GET", where)[1]["accepted"] == 2
    assert send(kept["artist"], "POST", where + "/accept", None, again["result"]["stamp"])[0] == 409


def test_let_go_leaves_all_as_it_was(kept, tmp_path):
    path, _ = second(tmp_path)
    before = state(kept)
    told = rehearsed(kept, deliver(kept, path.read_bytes()))
    stored = files.path_of(Delivery.objects.get().scene.sha256)
    assert stored.exists()
    assert send(kept["artist"], "DELETE", f"{kept['base']}/deliveries/{told['id']}")[0] == 204
    assert state(kept) == before and not Delivery.objects.exists()


def test_frames_before_and_after_are_those_of_the_builds(kept, tmp_path):
    path, _ = second(tmp_path)
    told = rehearsed(kept, deliver(kept, path.read_bytes()))
    shown = []
    for which in ("before", "after"):
        answer = kept["viewer"].get(f"{kept['base']}/deliveries/{told['id']}/frames/{which}/eye")
        assert answer.status_code == 200
        shown.append(np.asarray(Image.open(io.BytesIO(answer.content)).convert("RGB")))
    assert shown[0].shape == (360, 640, 3) and shown[0].std() > 0
    assert kept["viewer"].get(f"{kept['base']}/deliveries/{told['id']}/frames/after/nowhere").status_code == 422


def test_a_ledger_that_went_on_is_rehearsed_again_first(kept, tmp_path):
    path, _ = second(tmp_path)
    told = rehearsed(kept, deliver(kept, path.read_bytes()))
    where = f"{kept['base']}/deliveries/{told['id']}"
    rows = send(kept["artist"], "GET", kept["base"] + "/ledger")[1]
    assert send(kept["artist"], "POST", f"{kept['base']}/ledger/{rows['changes'][2]['id']}/drop", None, rows["version"])[0] == 200
    assert send(kept["viewer"], "GET", where)[1]["behind"]
    status, body = send(kept["artist"], "POST", where + "/accept", None, told["result"]["stamp"])
    assert status == 409 and "the ledger went on" in body["detail"]
    again = rehearsed(kept, send(kept["artist"], "POST", where + "/answers", {"answers": {}})[1])
    assert not again["behind"] and again["result"]["unanswered"] == []
    assert send(kept["artist"], "POST", where + "/accept", None, again["result"]["stamp"])[0] == 201


@pytest.mark.parametrize(
    ("data", "name", "setup", "says"),
    [
        (b"glTF" + bytes(30), "x.glb", None, "GLB"), (b"", "x.txt", None, "a scene is a .glb"), (None, "x.glb", b"{", "JSON"),
        (None, "x.glb", b'{"eddyfall_setup": 1, "viewpoints": {"a": {"camera": "none"}}}', "camera node 'none'"),
    ],
)  # fmt: skip
def test_a_bad_delivery_is_one_line_and_nothing_of_the_build_changes(kept, tmp_path, data, name, setup, says):
    path, _ = second(tmp_path)
    before = state(kept)[:2]
    answer = deliver(kept, path.read_bytes() if data is None else data, name, setup)
    if answer.status_code == 202:
        told = rehearsed(kept, answer)
        assert told["job"]["state"] == "failed" and told["result"] is None
        message = told["job"]["message"]
        status, body = send(kept["artist"], "POST", f"{kept['base']}/deliveries/{told['id']}/accept", None, "x")
        assert status == 409 and "was not rehearsed" in body["detail"]
    else:
        assert answer.status_code == 422
        message = answer.json()["detail"]
    assert says in message and "\n" not in message
    assert state(kept)[:2] == before


def test_answers_to_what_is_not_asked_and_writes_while_it_is_rehearsed_are_refused(kept, tmp_path):
    path, _ = second(tmp_path)
    answer = deliver(kept, path.read_bytes()).json()
    where = f"{kept['base']}/deliveries/{answer['id']}"
    assert send(kept["artist"], "POST", where + "/answers", {"answers": {}})[0] == 409
    rehearsed(kept, answer)
    assert send(kept["artist"], "POST", where + "/answers", {"answers": {"no:0": "yours"}})[0] == 422
    assert send(kept["artist"], "POST", where + "/accept")[0] == 428
    assert deliver(kept, path.read_bytes(), who="viewer").status_code == 403
    assert Job.objects.filter(kind="delivery").count() == 1


def test_a_delivered_setup_is_merged_leaf_by_leaf(kept, tmp_path):
    """Delivered with settings that change what was kept, and what was not."""
    path = tmp_path / "same.glb"
    path.write_bytes(write_glb(YARD.scene))
    raw = {**YARD.raw_setup, "nodes": {"box_1": {"draw_rank": 7}}, "fog": {"enabled": True}}
    told = rehearsed(kept, deliver(kept, path.read_bytes(), "same.glb", json.dumps(raw).encode()))
    edits = {e["path"]: (e["fate"], e["before"], e["yours"], e["delivered"]) for e in told["result"]["edits"]}
    assert edits["nodes.box_1.draw_rank"] == ("asked", 1, 4, 7)
    where = f"{kept['base']}/deliveries/{told['id']}"
    again = rehearsed(kept, send(kept["artist"], "POST", where + "/answers", {"answers": {"edit 0:0": "yours"}})[1])
    assert send(kept["artist"], "POST", where + "/accept", None, again["result"]["stamp"])[0] == 201
    made = builds.applied(
        builds.open_core(Build.objects.get(number=2)), builds.core_changes(builds.kept(Build.objects.get(number=2)))
    )
    assert made.setup.nodes["box_1"].draw_rank == 4 and made.setup.fog.enabled

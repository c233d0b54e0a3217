"""The whole path over the API on real PostgreSQL: upload, sweep, case, drill, line-up, keep, prove, drop, hand over."""

import io
import json
import zipfile

import numpy as np
import pytest
from PIL import Image

from api_helpers import send, upload
from eddyfall.cli import main
from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE, delta_e_2000
from eddyfall.core.frame.render import render
from eddyfall.core.intake import open_build
from eddyfall.core.scene.changes import Change, apply_change
from eddyfall.core.scene.setup.sections.fog import Fog
from eddyfall.core.sweep import sweep as core_sweep
from eddyfall.demo.shapes import Shape
from eddyfall.workbench import tasks
from eddyfall.workbench.models import Event, File, Job
from scenes import Thing, build_of, floor, net_build, write_build

pytestmark = pytest.mark.django_db(transaction=True)


def work_off():
    """Do what the worker would do: every waiting job, in order."""
    for job in Job.objects.filter(state=Job.WAITING).order_by("id"):
        getattr(tasks, job.kind)(job_id=job.pk)


@pytest.fixture
def swept(built):
    status, body = send(built["artist"], "POST", built["base"] + "/sweeps", {})
    assert status == 201, body
    work_off()
    built["sweep"] = send(built["viewer"], "GET", f"{built['base']}/sweeps/{body['id']}")[1]
    return built


@pytest.fixture
def case(swept):
    status, body = send(swept["artist"], "POST", swept["base"] + "/cases", {"finding": swept["sweep"]["items"][0]["id"]})
    assert status == 201, body
    swept["case"] = f"{swept['base']}/cases/{body['number']}"
    return swept


def run_lineup(case):
    answer = case["artist"].post(case["case"] + "/line-up", "{}", "application/json")
    return [json.loads(line) for line in b"".join(answer.streaming_content).splitlines()]


def test_what_was_read_is_what_the_command_line_reads(built, tmp_path, capsys):
    path = write_build(net_build(), tmp_path, "nets")
    assert main(["intake", str(path), "--json", "-"]) == 0
    facts = json.loads(capsys.readouterr().out)
    facts.pop("setup")
    assert send(built["viewer"], "GET", built["base"])[1]["facts"] == facts


def test_a_sweep_over_the_api_is_the_sweep_of_the_command_line(swept, tmp_path, capsys):
    path = write_build(net_build(), tmp_path, "nets")
    main(["sweep", str(path), "--json", "-"])
    document = json.loads(capsys.readouterr().out)
    assert [f["document"] for f in swept["sweep"]["items"]] == document["findings"]
    assert swept["sweep"]["job"]["state"] == "done"
    [row] = swept["sweep"]["tide"]
    cell = row["cells"]["Depth"]
    measured = document["findings"][0]["impact"]
    assert measured["kind"] == "measured" and cell["share"] == measured["by_viewpoint"]["eye"] == measured["share"] > 0.3
    assert cell["severity"] == "blocking" and not cell["exposed"]
    picture = swept["viewer"].get(f"{swept['base']}/findings/{swept['sweep']['items'][0]['id']}/picture")
    assert Image.open(io.BytesIO(b"".join(picture.streaming_content))).size == (960, 540)


def test_a_project_says_how_its_newest_build_stands(built):
    def line():
        return next(p for p in send(built["viewer"], "GET", "/api/projects")[1] if p["name"] == "Weirgate")

    before = line()
    assert before["found"] is None and before["viewpoint"] == "eye" and set(before["people"]) == {"viewer", "artist", "lead"}
    send(built["artist"], "POST", built["base"] + "/sweeps", {})
    assert [(j["about"], j["state"]) for j in line()["jobs"]] == [("sweep of build 1", "waiting")]
    work_off()
    assert line()["found"] == {"blocking": 1, "visible": 0, "new": 0} and line()["jobs"] == []


def test_frames_are_the_renderers(built, tmp_path):
    build = open_build(write_build(net_build(), tmp_path, "nets"))
    answer = built["viewer"].get(built["base"] + "/frames/eye?width=320&height=180")
    frame = render(build, "eye", size=(320, 180))
    np.testing.assert_array_equal(np.asarray(Image.open(io.BytesIO(answer.content))), frame.display)
    answer = built["viewer"].get(built["base"] + "/frames/eye?width=320&height=180&form=linear")
    np.testing.assert_array_equal(np.frombuffer(answer.content, "<f4").reshape(180, 320, 3), frame.linear)
    assert float(answer["X-Exposure-Scale"]) == 1.0


def listed(case):
    return send(case["viewer"], "GET", case["base"] + "/cases")[1][0]


def test_a_case_is_listed_with_its_spot_impact_and_who_opened_it(case, tmp_path):
    line, document = listed(case), case["sweep"]["items"][0]["document"]
    assert (line["severity"], line["impact"], line["opened_by"]) == (document["severity"], document["impact"], "artist")
    cures = sum(r["verdict"] == "cures" for r in document["remedies"])
    assert line["standing"].startswith(f"{cures} remed") and line["standing"].endswith("it")
    answer = case["viewer"].get(f"{case['case']}/spot?v={line['stamp']}")
    picture = np.asarray(Image.open(io.BytesIO(answer.content)))
    whole = render(open_build(write_build(net_build(), tmp_path, "nets")), "eye", size=(960, 540)).display
    x, y, w, h = send(case["viewer"], "GET", case["case"])[1]["spot"]
    high, wide = picture.shape[:2]
    assert wide >= w and high >= h and abs(wide / high - 16 / 9) < 0.01
    left, top = x + w // 2 - wide // 2, y + h // 2 - high // 2
    np.testing.assert_array_equal(picture, whole[top : top + high, left : left + wide])


def test_core_samples_are_those_of_the_command_line(case, tmp_path, capsys):
    path = write_build(net_build(), tmp_path, "nets")
    for x, y in ((60, 270), (420, 280), (700, 262)):
        assert main(["core-sample", str(path), "--viewpoint", "eye", "--at", f"{x},{y}", "--json", "-"]) == 0
        theirs = json.loads(capsys.readouterr().out)
        assert send(case["viewer"], "GET", f"{case['case']}/core-sample/before?x={x}&y={y}")[1] == theirs
    assert send(case["viewer"], "GET", f"{case['case']}/core-sample/before?x=9999&y=0")[0] == 422


def test_autopsies_are_those_of_the_command_line(case, tmp_path, capsys):
    path = write_build(net_build(), tmp_path, "nets")
    at = next(
        (x, y) for x, y in ((420, 280), (60, 270)) if main(["autopsy", str(path), "--viewpoint", "eye", "--at", f"{x},{y}"]) != 2
    )
    capsys.readouterr()
    main(["autopsy", str(path), "--viewpoint", "eye", "--at", f"{at[0]},{at[1]}", "--json", "-"])
    theirs = json.loads(capsys.readouterr().out)
    assert send(case["viewer"], "GET", f"{case['case']}/autopsy/before?x={at[0]}&y={at[1]}")[1] == theirs
    assert send(case["viewer"], "GET", f"{case['base']}/autopsy/eye?x={at[0]}&y={at[1]}")[1] == theirs
    assert send(case["viewer"], "GET", f"{case['case']}/autopsy/before?x=9999&y=0")[0] == 422


def test_what_the_shadow_reach_sheet_asks_is_what_the_command_line_says(people, tmp_path, capsys):
    wall = Thing("wall", Shape().box((-2, -2, -14.3), (2, 0.5, -14), 1.0))
    lit = build_of(
        Thing("floor", floor(-2.0, near=-6.0, far=60.0)), wall,
        setup={"lights": {"sun": {"kind": "sun", "illuminance_lux": 9.0, "towards": [0.3, 0.6, -0.5]}}, "shadow": {"reach_m": 9.0}},
    )  # fmt: skip
    path = write_build(lit, tmp_path, "yard")
    answer = upload(people["artist"], people["project"], path.read_bytes(), path.with_suffix(".setup.json").read_bytes())
    assert answer.status_code == 201, answer.content
    base, viewer = f"/api/projects/{people['project'].pk}/builds/1", people["viewer"]

    def said(*command):
        code = main([command[0], str(path), *command[1:], "--json", "-"])
        return code, json.loads(capsys.readouterr().out)

    code, [section] = said("shadows", "--viewpoint", "eye")
    assert code == 1 and section["casters"][0]["lost_at"] == "a map serves this depth"
    assert send(viewer, "GET", base + "/shadows/eye") == (200, section)
    assert send(viewer, "GET", base + "/leftovers") == (200, said("leftovers")[1])
    assert send(viewer, "GET", base + "/shadows/eye/cures?caster=wall") == (
        200,
        said("cures", "--viewpoint", "eye", "--caster", "wall")[1],
    )
    code, bias = said("shadow-bias", "--light", "sun")
    assert bias["front"] and all(r["same"] for r in bias["front"]) and code == (0 if bias["set_to"]["inside"] else 1)
    assert send(viewer, "GET", base + "/shadow-bias?light=sun") == (200, bias)
    assert send(viewer, "GET", base + "/shadow-bias") == (422, {"detail": "which light? ?light= names one"})
    assert main(["shadow-bias", str(path), "--light", "moon"]) == 2
    line = capsys.readouterr().err.strip().removeprefix("eddyfall: ")
    assert send(viewer, "GET", base + "/shadow-bias?light=moon") == (422, {"detail": line})
    walked = said("shadow-walk", "--viewpoint", "eye", "--move", "turn", "--step", "0.5", "--steps", "3")[1]
    assert send(viewer, "GET", base + "/shadows/eye/walk?move=turn&step=0.5&steps=3") == (200, walked)
    assert send(viewer, "GET", base + "/shadows/eye/walk?steps=65")[0] == 422
    fine = said("shadow-fineness", "--viewpoint", "eye")[1][0]
    assert send(viewer, "GET", base + "/shadows/eye/fineness") == (200, fine)
    assert fine["light"] == "sun" and send(viewer, "GET", base + "/shadows/eye/fineness?light=moon")[0] == 422
    [spent] = said("shadow-budget", "--viewpoint", "eye")[1]
    assert send(viewer, "GET", base + "/shadows/eye/budget") == (200, spent) and spent["total"]["mib"] > 0
    status, sky = send(viewer, "GET", base + "/shadows/eye/sky")
    assert status == 200 and sky["picture"] == "" and sky["found"] is None and sky["share"] == 0
    line = "eye has no sky picture"
    assert send(viewer, "GET", base + "/shadows/eye/sky/picture") == (422, {"detail": line})
    ends = [viewer.get(f"{base}/shadows/eye/end?caster=wall&beyond={side}") for side in ("false", "true")]
    sides = [Image.open(io.BytesIO(answer.content)) for answer in ends]
    beside = tmp_path / "ends.png"
    assert main(["shadows", str(path), "--viewpoint", "eye", "--end", "wall", "--picture", str(beside)]) == 0
    assert "are dark" in capsys.readouterr().out and all(3 * s.width == pytest.approx(4 * s.height, abs=8) for s in sides)
    assert Image.open(beside).height == max(s.height for s in sides)
    assert main(["shadows", str(path), "--viewpoint", "eye", "--end", "crane", "--picture", str(beside)]) == 2
    line = capsys.readouterr().err.strip().removeprefix("eddyfall: ")
    assert send(viewer, "GET", base + "/shadows/eye/end?caster=crane") == (422, {"detail": line})
    picture = viewer.get(base + "/shadows/eye/picture")
    assert Image.open(io.BytesIO(picture.content)).size == (960, 540)
    assert main(["cures", str(path), "--viewpoint", "eye", "--caster", "crane"]) == 2
    line = capsys.readouterr().err.strip().removeprefix("eddyfall: ")
    assert send(viewer, "GET", base + "/shadows/eye/cures?caster=crane") == (422, {"detail": line})
    assert send(viewer, "GET", base + "/shadows/nowhere")[0] == 422
    assert send(viewer, "GET", base + "/shadows/eye?light=moon")[0] == 422


def test_lineup_streams_trials_and_stores_the_ranked_ones(case, tmp_path, capsys):
    before = send(case["artist"], "GET", case["case"])[1]
    lines = run_lineup(case)
    streamed = [line["trial"]["title"] for line in lines if "trial" in line]
    done = lines[-1]["done"]
    assert sorted(streamed) == sorted(t["document"]["title"] for t in done["trials"])
    path = write_build(net_build(), tmp_path, "nets")
    spot = ",".join(map(str, before["spot"]))
    main(["lineup", str(path), "--viewpoint", "eye", "--spot", spot, "--symptom", "see-through", "--json", "-"])
    document = json.loads(capsys.readouterr().out)
    assert [t["document"] for t in done["trials"]] == document["trials"]
    assert done["lineup"]["base_score"] == document["base_score"] and done["stage"] == "trials"
    answer = case["viewer"].get(case["case"] + "/trials/0/picture")
    assert Image.open(io.BytesIO(b"".join(answer.streaming_content))).size == tuple(before["spot"][2:])


def test_keep_prove_hand_over_and_sweep_clean(case, tmp_path):
    done = run_lineup(case)[-1]["done"]
    version = done["version"]
    clear = sum(t["document"]["verdict"] == "clears it" for t in done["trials"])
    assert listed(case)["standing"] == f"{clear} of {len(done['trials'])} trials clear it"
    status, kept = send(case["artist"], "POST", case["case"] + "/keep", {"trial": 0, "reason": "nets are solid"}, version)
    assert status == 200 and kept["stage"] == "fix" and [c["reason"] for c in kept["kept"]] == ["nets are solid"]
    assert listed(case)["standing"] == "1 kept, not proved yet"
    status, _ = send(case["artist"], "POST", case["case"] + "/proofs", {})
    assert status == 200
    work_off()
    assert listed(case)["standing"] == "proved"
    proof = send(case["viewer"], "GET", case["case"])[1]["proof"]
    assert proof["result"]["proved"], proof
    # The net is all that changes: its pixels are the share of the frame that the proof says, counted.
    [view] = proof["result"]["views"]
    assert view["elsewhere"] == 0 and view["changed"] == view["on_cause"] > 0.1
    assert view["siblings"] == {"fender_net": round(view["on_cause"] * 960 * 540)}
    ledger = send(case["viewer"], "GET", case["base"] + "/ledger")[1]
    assert [op["op"] for op in ledger["patch"]] == ["test", "replace"]
    status, package = send(case["artist"], "POST", case["base"] + "/hand-over", {})
    assert status == 201
    work_off()
    answer = case["viewer"].get(f"{case['base']}/hand-over/{package['id']}")
    with zipfile.ZipFile(io.BytesIO(b"".join(answer.streaming_content))) as archive:
        names = set(archive.namelist())
        archive.extractall(tmp_path / "zip")
    assert names == {f"nets.{e}" for e in ("glb", "setup.json", "patch.json", "changes.json", "sheet.html", "sarif")}
    assert json.loads((tmp_path / "zip" / "nets.patch.json").read_text()) == ledger["patch"]
    assert main(["sweep", str(tmp_path / "zip" / "nets.glb")]) == 0
    send(case["artist"], "POST", case["base"] + "/sweeps", {})
    work_off()
    latest = send(case["viewer"], "GET", case["base"] + "/sweeps")[1][0]
    after = send(case["viewer"], "GET", f"{case['base']}/sweeps/{latest['id']}")[1]
    assert after["items"] == [] and [g["code"] for g in after["gone"]] == ["depth.missing-prepass"]


def test_two_people_keeping_on_one_case(case):
    version = run_lineup(case)[-1]["done"]["version"]
    first = send(case["artist"], "POST", case["case"] + "/keep", {"trial": 0}, version)
    second = send(case["lead"], "POST", case["case"] + "/keep", {"trial": 2}, version)
    assert first[0] == 200 and second[0] == 409
    assert second[1]["current"]["kept"][0]["kept_by"] == "artist" and second[1]["yours"]["change"]
    assert len(send(case["viewer"], "GET", case["base"] + "/ledger")[1]["changes"]) == 1
    assert send(case["lead"], "POST", case["case"] + "/keep", {"trial": 0}, second[1]["current"]["version"])[0] == 409


def test_writes_without_a_version_are_refused(case):
    assert send(case["artist"], "PATCH", case["case"], {"symptom": "see-through"})[0] == 428
    assert send(case["artist"], "POST", case["case"] + "/keep", {"trial": 0})[0] == 428


def test_drop_takes_the_change_back_and_keeps_the_record(case):
    version = run_lineup(case)[-1]["done"]["version"]
    send(case["artist"], "POST", case["case"] + "/keep", {"trial": 0}, version)
    ledger = send(case["artist"], "GET", case["base"] + "/ledger")[1]
    change = ledger["changes"][0]["id"]
    assert send(case["lead"], "POST", f"{case['base']}/ledger/{change}/drop", None, 1)[0] == 409
    status, after = send(case["lead"], "POST", f"{case['base']}/ledger/{change}/drop", None, ledger["version"])
    assert status == 200 and after["patch"] == [] and after["changes"][0]["dropped_by"] == "lead"
    assert send(case["lead"], "POST", f"{case['base']}/ledger/{change}/drop", None, after["version"])[0] == 409
    assert send(case["viewer"], "GET", case["case"])[1]["kept"] == []
    assert {"change kept", "change dropped"} <= set(Event.objects.values_list("what", flat=True))


def test_a_new_question_takes_the_old_trials_and_their_files_away(case, own_media):
    version = run_lineup(case)[-1]["done"]["version"]
    pictures = set(File.objects.filter(kind="trial").values_list("sha256", flat=True))
    status, body = send(case["artist"], "PATCH", case["case"], {"spot": [100, 200, 60, 60]}, version)
    assert status == 200 and body["trials"] == [] and body["lineup"] is None and body["spot"] == [100, 200, 60, 60]
    assert not any((own_media / "files" / sha[:2] / sha).exists() for sha in pictures)
    for bad in ({"spot": [900, 500, 200, 200]}, {"symptom": "ugly"}, {"viewpoint": "no"}, {"spot": [1, 2, 3]}):
        assert send(case["artist"], "PATCH", case["case"], bad, body["version"])[0] == 422, bad


def test_an_edit_in_set_up_is_measured_and_not_saved(built, tmp_path):
    before = send(built["viewer"], "GET", built["base"] + "/setup")[1]
    row = next(f for f in before["fields"] if f["path"] == "fog.fog_per_m")
    assert row["value"] == 0.03 and row["winner"] == "project" and row["unit"]

    def tried(*edits):
        payload = {"edits": [{"path": p.split("."), "value": v} for p, v in edits], "viewpoint": "eye"}
        return send(built["viewer"], "POST", built["base"] + "/setup/trial", payload)

    assert tried(("fog.fog_per_m", 0.2))[1]["changed_share"] > 0.2
    assert tried(("fog.fog_per_m", 0.03))[1]["unchanged"]
    assert tried(("fog.fog_per_m", -1))[0] == 422
    assert tried(("fog.nothing", 0.2))[0] == 404 and tried(("nodes.fender_net.nothing", 1))[0] == 422
    assert tried(("shaders.net.passes.depth", True))[1]["changed_share"] > 0.1
    assert send(built["viewer"], "GET", built["base"] + "/setup")[1] == before


def test_edits_of_settings_and_of_one_asset_are_one_trial_kept_with_its_reason(built, tmp_path):
    edits = [{"path": ["fog", "fog_per_m"], "value": 0.01}, {"path": ["nodes", "fender_net", "casts"], "value": False},
             {"path": ["nodes", "fender_net", "draw_rank"], "value": 3}]  # fmt: skip
    effect = send(built["viewer"], "POST", built["base"] + "/setup/trial", {"edits": edits, "viewpoint": "eye"})[1]
    assert not effect["unchanged"] and effect["change"]["scope"] == "project" and "fog.fog_per_m = 0.01" in effect["title"]
    assert "nodes.fender_net.casts = no" in effect["title"]
    build = open_build(write_build(net_build(), tmp_path, "nets"))
    after = apply_change(build, Change.model_validate(effect["change"]))
    assert after.setup[Fog].fog_per_m == 0.01 and after.setup.nodes["fender_net"].draw_rank == 3
    assert not after.setup.nodes["fender_net"].casts
    # The measured share is that of the frames either side of the change.
    pair = [render(b, "eye", size=(480, 270)).display for b in (build, after)]
    assert effect["changed_share"] == pytest.approx((delta_e_2000(*pair) > VISIBLE_DIFFERENCE).mean())
    body = {"change": effect["change"], "evidence": {"from": "set-up"}, "reason": "thinner fog, nets do not cast"}
    assert send(built["artist"], "POST", built["base"] + "/ledger", body, 1)[0] == 201
    sheet = send(built["viewer"], "GET", built["base"] + "/setup")[1]
    said = "thinner fog, nets do not cast (artist)"
    assert next(f for f in sheet["fields"] if f["path"] == "fog.fog_per_m")["reason"] == said
    mine = {(e["table"], e["key"], e["field"]): (e["value"], e["reason"]) for e in sheet["exceptions"]}
    assert mine["nodes", "fender_net", "casts"] == (False, said) and mine["nodes", "fender_net", "draw_rank"] == (3, said)


def test_settings_of_what_does_not_exist_are_refused_in_one_line(built):
    for query, word in (("viewpoint=nowhere", "nowhere"), ("target=slate", "slate")):
        status, body = send(built["viewer"], "GET", f"{built['base']}/setup?{query}")
        assert status == 422 and word in body["detail"], body


def test_fields_say_how_their_values_are_written(built):
    sheet = send(built["viewer"], "GET", built["base"] + "/setup")[1]
    forms = {f["path"]: f["form"] for f in sheet["fields"]}
    assert forms["depth.far_m"] == {"kind": "number", "choices": [], "limits": "above 0", "optional": True}
    assert forms["fog.enabled"]["kind"] == "yes_no" and forms["fog.rgb"]["kind"] == "numbers"
    assert forms["depth.copy_from"]["choices"] == ["none", "prepass", "opaque"]
    assert next(f for f in sheet["fields"] if f["path"] == "shadow.bias_texels")["name"] == "Bias"
    nodes = next(t for t in sheet["tables"] if t["table"] == "nodes")
    assert "fender_net" in nodes["keys"] and {"casts", "draw_rank"} <= {f["field"] for f in nodes["fields"]}


def test_a_capture_is_kept_by_viewpoint(built):
    from django.core.files.uploadedfile import SimpleUploadedFile

    stream = io.BytesIO()
    Image.new("RGB", (96, 54), (10, 20, 30)).save(stream, "PNG")
    url = built["base"] + "/captures/eye"
    assert built["artist"].post(url, {"picture": SimpleUploadedFile("mine.png", stream.getvalue())}).status_code == 204
    answer = built["viewer"].get(url)
    assert Image.open(io.BytesIO(b"".join(answer.streaming_content))).getpixel((0, 0)) == (10, 20, 30)
    assert built["artist"].post(url, {"picture": SimpleUploadedFile("mine.png", b"nothing")}).status_code == 422
    assert built["artist"].post(url[:-3] + "no", {"picture": SimpleUploadedFile("m.png", stream.getvalue())}).status_code == 404


def test_a_scene_without_settings_gets_a_case_from_a_spot(people, net_files):
    answer = upload(people["artist"], people["project"], net_files[0])
    body = answer.json()
    assert answer.status_code == 201 and not body["has_own_setup"]
    assert any("fitted" in line for line in body["facts"]["left_out"])
    base = f"/api/projects/{people['project'].pk}/builds/{body['number']}"
    view = body["viewpoints"][0]["key"]
    status, case = send(
        people["artist"], "POST", base + "/cases", {"viewpoint": view, "symptom": "see-through", "spot": [400, 200, 80, 60]}
    )
    assert status == 201 and case["stage"] == "spot"
    assert send(people["artist"], "POST", base + "/cases", {"symptom": "see-through"})[0] == 422


def test_the_core_is_asked_once_for_the_head(built, monkeypatch):
    asked = []
    monkeypatch.setattr(tasks, "core_sweep", lambda build, **how: asked.append(build) or core_sweep(build, **how))
    path = f"{built['base']}/sweeps/{send(built['artist'], 'POST', built['base'] + '/sweeps', {})[1]['id']}"
    work_off()
    first, again = (send(built["viewer"], "GET", path)[1] for _ in range(2))
    send(built["artist"], "POST", built["base"] + "/cases", {"finding": first["items"][0]["id"]})
    assert first == again and first["items"] and len(asked) == 1

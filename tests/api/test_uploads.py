"""Hostile uploads: one clear message, nothing stored, the server goes on."""

import pytest
from django.db import transaction

from api_helpers import post_upload, send, upload
from eddyfall.workbench.models import Build, File
from eddyfall.workbench.services import builds, intakes
from hostile_files import FILES

pytestmark = pytest.mark.django_db(transaction=True)


def stored(media):
    return [p for p in media.rglob("*") if p.is_file()] if media.exists() else []


@pytest.mark.parametrize("name", ["0 bytes", "chunk cut off", "index out of range", "recursive nodes", "zip climbs", "4e9 vertices",
                                  "zip bomb", "100k nested", "NaN", "huge picture", "buffer file missing", "web address"])  # fmt: skip
def test_a_hostile_scene_is_one_line_and_leaves_nothing(name, people, own_media):
    answer = upload(people["artist"], people["project"], FILES[name][0], name="bad.zip" if "zip" in name else "bad.glb")
    assert answer.status_code == 422, answer.content
    line = answer.json()["detail"]
    assert line.startswith("bad.") and FILES[name][1] in line and "\n" not in line and len(line) < 400
    assert not Build.objects.exists() and not File.objects.exists() and stored(own_media) == []


def test_a_broken_setup_is_named_by_its_own_name(people, net_files, own_media):
    answer = upload(people["artist"], people["project"], net_files[0], b'{"eddyfall_setup": 1, "fog": {"density": 1}}')
    assert answer.status_code == 422 and answer.json()["detail"] == "nets.setup.json: fog.density: unknown key"
    assert stored(own_media) == []


def test_other_kinds_of_files_are_refused(people, net_files):
    assert upload(people["artist"], people["project"], net_files[0], name="scene.exe").status_code == 422
    assert send(people["artist"], "POST", f"/api/projects/{people['project'].pk}/builds", {})[0] == 422


def test_an_upload_beyond_the_limit_is_refused_before_it_is_read(people, monkeypatch):
    from django.conf import settings

    monkeypatch.setattr(settings, "UPLOAD_MAX_BYTES", 1000)
    answer = upload(people["artist"], people["project"], b"x" * 2000)
    assert answer.status_code == 413 and "may have" in answer.json()["detail"]


def test_an_upload_cannot_read_what_lies_beside_it(people, net_files, own_media):
    import json

    assert upload(people["artist"], people["project"], *net_files).status_code == 201
    beside = next(p for p in stored(own_media) if p.read_bytes()[:4] == b"glTF")
    document = {"asset": {"version": "2.0"}, "buffers": [{"byteLength": 4, "uri": f"../{beside.parent.name}/{beside.name}"}]}
    answer = upload(people["artist"], people["project"], json.dumps(document).encode(), name="a.gltf")
    assert answer.status_code == 422 and "missing" in answer.json()["detail"]


def test_a_reader_that_takes_too_much_dies_alone(people, net_files, own_media, monkeypatch):
    from eddyfall.workbench import reading

    monkeypatch.setattr(reading, "WALL_S", 0)
    answer = upload(people["artist"], people["project"], *net_files)
    assert answer.status_code == 422 and "more memory or time" in answer.json()["detail"]
    assert stored(own_media) == []
    monkeypatch.undo()
    from django.conf import settings

    settings.MEDIA_ROOT = own_media
    assert upload(people["artist"], people["project"], *net_files).status_code == 201


def test_deleting_a_build_takes_its_files_and_leaves_shared_ones(people, net_files, own_media):
    for _ in range(2):
        assert upload(people["artist"], people["project"], *net_files).status_code == 201
    base = f"/api/projects/{people['project'].pk}/builds"
    assert len({p.name for p in stored(own_media)}) == 2, "the same content is stored once"
    assert send(people["lead"], "DELETE", f"{base}/1")[0] == 204
    assert len(stored(own_media)) == 2
    assert send(people["viewer"], "GET", f"{base}/2/frames/eye?width=64&height=36")[0] == 200
    assert send(people["lead"], "DELETE", f"{base}/2")[0] == 204
    assert stored(own_media) == []


def test_an_intake_that_is_cancelled_before_it_begins_leaves_nothing(people, net_files, own_media):
    job = post_upload(people["artist"], people["project"], *net_files).json()
    intakes.let_go_of_ended()
    assert len(stored(own_media)) == 2, "it still waits"
    assert (
        send(people["artist"], "POST", f"/api/projects/{people['project'].pk}/jobs/{job['id']}/cancel")[1]["state"] == "cancelled"
    )
    intakes.let_go_of_ended()
    assert stored(own_media) == [] and not Build.objects.exists()


def test_leftovers_of_a_day_are_removed(built, own_media):
    import time

    from eddyfall.workbench import files

    with transaction.atomic():
        sha, _ = files.put(b"named by nothing")
    half = files.temporary()
    assert files.remove_leftovers() == 0
    assert files.remove_leftovers(now=time.time() + 25 * 3600) == 2
    assert not files.path_of(sha).exists() and not half.exists()
    build = Build.objects.get()
    assert builds.open_core(build).scene.meshes

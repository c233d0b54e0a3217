"""A full disk says so and leaves nothing. The operating system refuses to let files grow, as a full disk or a quota does."""

import contextlib
import io
import resource

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image

from api_helpers import post_upload, send
from eddyfall.workbench import files, tasks
from eddyfall.workbench.models import File, Intake, Job, Sweep

pytestmark = pytest.mark.django_db(transaction=True)


@contextlib.contextmanager
def no_room(bytes_left):
    """Inside, no file may grow beyond some bytes (EFBIG)."""
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (bytes_left, hard))
    try:
        yield
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))


def left(media):
    return sorted(p.name for p in media.rglob("*") if p.is_file())


def test_an_upload_says_so_and_leaves_nothing(people, net_files, own_media):
    with no_room(300):
        answer = post_upload(people["artist"], people["project"], *net_files)
    assert answer.status_code == 507 and "full" in answer.json()["detail"]
    assert left(own_media) == [] and not Intake.objects.exists() and not Job.objects.exists()
    assert post_upload(people["artist"], people["project"], *net_files).status_code == 202, "with room again it works"


def test_a_capture_says_so_and_leaves_nothing(built, own_media):
    stream = io.BytesIO()
    Image.fromarray(np.random.default_rng(1).integers(0, 255, (90, 160, 3), np.uint8)).save(stream, "PNG")
    before = left(own_media)
    with no_room(2000):
        form = {"picture": SimpleUploadedFile("mine.png", stream.getvalue())}
        answer = built["artist"].post(built["base"] + "/captures/eye", form)
    assert answer.status_code == 507 and left(own_media) == before and not File.objects.filter(kind="capture").exists()


def test_a_sweep_whose_pictures_find_no_room_fails_with_the_reason_and_leaves_nothing(built, own_media, monkeypatch):
    _, asked = send(built["artist"], "POST", built["base"] + "/sweeps", {})
    before, real = left(own_media), files.put

    def put(data):
        with no_room(100):
            return real(data)

    monkeypatch.setattr(files, "put", put)
    tasks.sweep(job_id=Job.objects.get(kind="sweep").pk)
    job = Job.objects.get(kind="sweep")
    assert job.state == "failed" and "disk" in job.message and "full" in job.message
    assert Sweep.objects.get(pk=asked["id"]).result is None and left(own_media) == before

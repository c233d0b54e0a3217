"""A backup restored on a fresh database and folder is everything there was; sweeps and hand overs of it are as before."""

import io
import json
import os
import subprocess
import sys
import tarfile
import tempfile
import zipfile
from pathlib import Path
from urllib.parse import quote

import psycopg
import pytest
from django.conf import settings
from django.db import connection

from api_helpers import send
from eddyfall.site.backup import back_up, restore
from eddyfall.site.cluster import Cluster, ClusterError
from eddyfall.workbench import tasks
from eddyfall.workbench.models import File, Finding, Job, Package

pytestmark = pytest.mark.django_db(transaction=True)

# Sweeps and hands over build 1 of a restored site, as its workers would.
AGAIN = """
import io, json, sys, zipfile, django
django.setup()
from django.contrib.auth import get_user_model
from eddyfall.workbench import tasks
from eddyfall.workbench.models import Build, Finding, Sweep
from eddyfall.workbench.services import handover, ledger, sweeps
user, build = get_user_model().objects.get(username="artist"), Build.objects.get()
row = sweeps.ask(build, user)
tasks.sweep(job_id=row.job_id)
found = [f.document for f in Finding.objects.filter(sweep=row).order_by("position")]
with zipfile.ZipFile(io.BytesIO(handover.make(build, lambda what, share: None))) as archive:
    files = {n: archive.read(n).decode() for n in archive.namelist() if n.endswith((".patch.json", ".changes.json", ".setup.json"))}
print(json.dumps({"found": found, "files": files, "patch": ledger.patch_of(build, user)}))
"""


def url_of_tests() -> str:
    s = connection.settings_dict
    return f"postgresql://{s['USER']}:{quote(s['PASSWORD'])}@{s['HOST']}:{s['PORT']}/{s['NAME']}"


def counts(url):
    with psycopg.connect(url) as link:
        tables = [t for (t,) in link.execute("SELECT tablename FROM pg_tables WHERE schemaname = 'public'")]
        return {t: link.execute(f'SELECT count(*) FROM "{t}"').fetchone()[0] for t in sorted(tables)}


def contents(media):
    return {p.name: p.read_bytes() for p in (media / "files").glob("*/*")}


@pytest.fixture
def worked(built):
    """A build that is swept, has a change kept, and is handed over."""
    send(built["artist"], "POST", built["base"] + "/sweeps", {})
    tasks.sweep(job_id=Job.objects.get(kind="sweep").pk)
    finding = Finding.objects.get()
    _, case = send(built["artist"], "POST", built["base"] + "/cases", {"finding": finding.pk})
    assert send(built["artist"], "POST", f"{built['base']}/cases/1/keep", {"remedy": 0}, case["version"])[0] == 200
    send(built["artist"], "POST", built["base"] + "/hand-over", {})
    tasks.handover(job_id=Job.objects.get(kind="handover").pk)
    assert Package.objects.get().file is not None
    return built


@pytest.fixture
def fresh():
    with tempfile.TemporaryDirectory(prefix="eddyfall-fresh-") as folder:
        Path(folder).chmod(0o755)
        cluster = Cluster(Path(folder) / "state")
        yield cluster, cluster.start(), Path(folder) / "media"
        cluster.stop()


def test_everything_comes_back(worked, fresh, own_media, tmp_path):
    _, url, media = fresh
    said: list[str] = []
    back_up(url_of_tests(), own_media, tmp_path / "all.tar", said.append)
    restore(url, media, tmp_path / "all.tar", said.append)
    assert counts(url) == counts(url_of_tests())
    named = set(File.objects.values_list("sha256", flat=True))
    assert contents(media) == contents(own_media) and named <= set(contents(media))
    env = {**os.environ, "DATABASE_URL": url, "EDDYFALL_MEDIA_ROOT": str(media), "EDDYFALL_SECRET_KEY": "another",
           "DJANGO_SETTINGS_MODULE": "eddyfall.site.settings", "PYTHONPATH": str(settings.ROOT / "src")}  # fmt: skip
    here = json.loads(subprocess.run([sys.executable, "-c", AGAIN], capture_output=True, text=True, env=env, check=True).stdout)
    base = worked["base"]
    send(worked["artist"], "POST", base + "/sweeps", {})
    tasks.sweep(job_id=Job.objects.filter(kind="sweep").first().pk)
    latest = send(worked["viewer"], "GET", base + "/sweeps")[1][0]
    there = send(worked["viewer"], "GET", f"{base}/sweeps/{latest['id']}")[1]
    assert [f["document"] for f in there["items"]] == here["found"]
    assert send(worked["viewer"], "GET", base + "/ledger")[1]["patch"] == here["patch"]
    package = b"".join(worked["viewer"].get(f"{base}/hand-over/{Package.objects.get().pk}").streaming_content)
    with zipfile.ZipFile(io.BytesIO(package)) as archive:
        assert {n: archive.read(n).decode() for n in here["files"]} == here["files"]


def test_it_is_not_restored_over_something_and_only_from_a_backup(worked, fresh, own_media, tmp_path):
    _, url, media = fresh
    back_up(url_of_tests(), own_media, tmp_path / "all.tar", lambda text: None)
    with pytest.raises(ClusterError, match="already"):
        restore(url_of_tests(), media, tmp_path / "all.tar", lambda text: None)
    (media / "files" / "ab").mkdir(parents=True)
    (media / "files" / "ab" / "abc").write_text("x")
    with pytest.raises(ClusterError, match="not empty"):
        restore(url, media, tmp_path / "all.tar", lambda text: None)
    (media / "files" / "ab" / "abc").unlink()
    (tmp_path / "half.tar").write_bytes((tmp_path / "all.tar").read_bytes()[:5000])
    for name in ("half.tar", "other.tar"):
        with tarfile.open(tmp_path / "other.tar", "w"):
            pass
        with pytest.raises(ClusterError):
            restore(url, media, tmp_path / name, lambda text: None)
        assert counts(url) == {}, "nothing is half restored"
    secret = tmp_path / "evil.tar"
    with tarfile.open(tmp_path / "all.tar") as old, tarfile.open(secret, "w") as new:
        new.addfile(old.getmember("database.dump"), old.extractfile("database.dump"))
        new.add(tmp_path / "half.tar", "files/../../climbed")
    restore(url, media, secret, lambda text: None)
    assert not list(tmp_path.parent.rglob("climbed")) and not list(media.parent.rglob("climbed"))


def test_a_backup_that_cannot_be_written_leaves_nothing(worked, own_media, tmp_path):
    with pytest.raises(ClusterError):
        back_up(url_of_tests(), own_media, tmp_path / "no" / "such" / "all.tar", lambda text: None)
    with pytest.raises(ClusterError, match="pg_dump"):
        back_up(url_of_tests().replace("/test", "/nothing"), own_media, tmp_path / "all.tar", lambda text: None)
    assert not list(tmp_path.glob("all.tar*"))

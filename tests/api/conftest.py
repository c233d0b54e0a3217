"""A real PostgreSQL for the whole run, users of every role, and small builds to upload."""

import os
import tempfile
from pathlib import Path

import pytest
from django.conf import settings
from django.db import connections
from django.test import Client

from api_helpers import signed_in, upload
from eddyfall.site.cluster import Cluster
from eddyfall.site.settings import database
from eddyfall.workbench.models import Membership, Project
from scenes import net_build, write_build


@pytest.fixture(scope="session")
def cluster():
    """The tests' own PostgreSQL, in a folder of its own on a free port; DATABASE_URL overrides."""
    if "DATABASE_URL" in os.environ:
        yield None
        return
    with tempfile.TemporaryDirectory(prefix="eddyfall-pg-") as folder:
        Path(folder).chmod(0o755)
        own = Cluster(Path(folder))
        own.url = own.start()
        yield own
        own.stop()


@pytest.fixture(scope="session")
def django_db_modify_db_settings(cluster):
    url = os.environ.get("DATABASE_URL") or cluster.url
    entry = {**connections.databases["default"], **database(url)}
    entry["OPTIONS"] = {k: v for k, v in entry["OPTIONS"].items() if k != "pool"}
    connections.databases["default"].update(entry)
    connections["default"].settings_dict.update(entry)


@pytest.fixture(autouse=True)
def own_media(tmp_path, monkeypatch):
    monkeypatch.setattr(settings, "MEDIA_ROOT", tmp_path / "media")
    from eddyfall.workbench.services.pictures import AT_HAND
    from eddyfall.workbench.studio.room import STUDIO

    STUDIO.memory.clear()
    AT_HAND.clear()
    return tmp_path / "media"


@pytest.fixture
def people(db):
    """Clients by access: anonymous, stranger, viewer, artist, lead."""
    clients = {"anonymous": Client(), **{name: signed_in(name) for name in ("stranger", "viewer", "artist", "lead")}}
    project = Project.objects.create(name="Weirgate")
    for role in ("viewer", "artist", "lead"):
        Membership.objects.create(project=project, user=clients[role].user, role=role)
    clients["project"] = project
    return clients


@pytest.fixture(scope="session")
def net_files(tmp_path_factory):
    path = write_build(net_build(), tmp_path_factory.mktemp("upload"), "nets")
    return path.read_bytes(), path.with_suffix(".setup.json").read_bytes()


@pytest.fixture
def built(people, net_files):
    """A project with the net of the worked case of netting that looks see-through uploaded; `base` is the build's path."""
    answer = upload(people["artist"], people["project"], *net_files)
    assert answer.status_code == 201, answer.content
    people["base"] = f"/api/projects/{people['project'].pk}/builds/1"
    return people

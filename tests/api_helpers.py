"""What tests of the API share besides fixtures: signed-in clients, uploads, JSON requests."""

import json
from dataclasses import dataclass
from typing import Any

from django.contrib.auth import get_user_model
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from eddyfall.workbench import tasks
from eddyfall.workbench.models import Job


def signed_in(username):
    client = Client()
    user = get_user_model().objects.create_user(username, password="a-long-password")
    client.force_login(user)
    client.user = user
    return client


def post_upload(client, project, scene, setup=None, name="nets.glb"):
    """POST a build; returns the response, which is the job that will read it."""
    form = {"scene": SimpleUploadedFile(name, scene)}
    if setup is not None:
        form["setup"] = SimpleUploadedFile("nets.setup.json", setup)
    return client.post(f"/api/projects/{project.pk}/builds", form)


@dataclass
class Arrived:
    """How an upload ended: 201 and the build, or the status and the line it was refused with."""

    status_code: int
    body: Any

    def json(self):
        return self.body

    @property
    def content(self):
        return json.dumps(self.body)


def upload(client, project, scene, setup=None, name="nets.glb"):
    """POST a build and do what the worker does with it."""
    answer = post_upload(client, project, scene, setup, name)
    if answer.status_code != 202:
        return Arrived(answer.status_code, answer.json())
    tasks.intake(job_id=answer.json()["id"])
    job = Job.objects.select_related("intake__build").get(pk=answer.json()["id"])
    if job.state != Job.DONE:
        return Arrived(422, {"detail": job.message})
    return Arrived(201, client.get(f"/api/projects/{project.pk}/builds/{job.intake.build.number}").json())


def send(client, method, path, body=None, version=None):
    """A JSON request; returns (status, body)."""
    headers = {} if version is None else {"If-Match": str(version)}
    answer = client.generic(method, path, json.dumps(body) if body is not None else "", "application/json", headers=headers)
    try:
        return answer.status_code, answer.json()
    except (ValueError, AttributeError):
        return answer.status_code, b"".join(answer.streaming_content) if answer.streaming else answer.content


def bring(people, path):
    """A written build with its settings brought in by the artist; `base` is its path."""
    answer = upload(people["artist"], people["project"], path.read_bytes(), path.with_suffix(".setup.json").read_bytes())
    assert answer.status_code == 201, answer.content
    people["base"] = f"/api/projects/{people['project'].pk}/builds/{answer.json()['number']}"
    people["path"] = path
    return people

"""What tests of the API share besides fixtures: signed-in clients, uploads, JSON requests."""

import json

from django.contrib.auth import get_user_model
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client


def signed_in(username):
    client = Client()
    user = get_user_model().objects.create_user(username, password="a-long-password")
    client.force_login(user)
    client.user = user
    return client


def upload(client, project, scene, setup=None, name="nets.glb"):
    """POST a build; returns the response."""
    form = {"scene": SimpleUploadedFile(name, scene)}
    if setup is not None:
        form["setup"] = SimpleUploadedFile("nets.setup.json", setup)
    return client.post(f"/api/projects/{project.pk}/builds", form)


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

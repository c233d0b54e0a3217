"""Who may do what, over every route there is: the matrix is built from the route table, so a new route cannot be forgotten."""

import pytest
from django.test import Client

from api_helpers import send
from eddyfall.workbench.api import api
from eddyfall.workbench.models import Membership, Project

PEOPLE = ("anonymous", "stranger", "viewer", "artist", "lead")
LEAST = {"viewer": ("viewer", "artist", "lead"), "artist": ("artist", "lead"), "lead": ("lead",)}
VALUES = {"number": 1, "viewpoint": "eye", "case_number": 1, "sweep_id": 1, "finding_id": 1, "rank": 0, "what": "before",
          "change_id": 1, "asset": "fender_net", "x": 1, "job_id": 1, "invitation_id": 1,
          "package_id": 1, "username": "nobody", "kind": "scene", "delivery_id": 1, "which": "before", "missing": "post"}  # fmt: skip


def routes():
    schema = api.get_openapi_schema()
    for path, methods in schema["paths"].items():
        for method, operation in methods.items():
            yield method.upper(), path, operation


ROUTES = list(routes())


def test_every_route_says_who_may_use_it():
    for method, path, operation in ROUTES:
        assert operation.get("x-access") in ("anyone", "user", *LEAST), f"{method} {path}"
        assert (operation["x-access"] in LEAST) == path.startswith("/api/projects/{project_id}"), path


@pytest.mark.parametrize(("method", "path", "operation"), ROUTES, ids=[f"{m} {p}" for m, p, _ in ROUTES])
def test_matrix(method, path, operation, built):
    access = operation["x-access"]
    url = path.format(project_id=built["project"].pk, **VALUES)
    for who in PEOPLE:
        if who != "anonymous" and method == "DELETE" and url.endswith("/session"):
            continue
        status, body = send(built[who], method, url, {} if method != "GET" else None)
        if access == "anyone":
            assert status < 500 or (url == "/api/health" and status == 503)  # no worker runs here
        elif who == "anonymous":
            assert status == 401, (who, status, body)
        elif access == "user":
            assert status not in (401, 403), (who, status, body)
        elif who == "stranger":
            assert (status, body) == (404, {"detail": f"project {built['project'].pk} does not exist"}), (who, status, body)
        elif who in LEAST[access]:
            assert status not in (401, 403) and status < 500, (who, status, body)
            assert not (isinstance(body, dict) and str(body.get("detail", "")).startswith("project ")), (who, body)
        else:
            assert status == 403, (who, status, body)
        if method == "DELETE" and status == 204:
            built["project"] = Project.objects.filter(pk=built["project"].pk).first() or built["project"]


def test_what_does_not_exist_looks_like_what_is_not_yours(built):
    mine = send(built["stranger"], "GET", f"/api/projects/{built['project'].pk}")
    none = send(built["stranger"], "GET", "/api/projects/999999")
    assert mine[0] == none[0] == 404
    assert mine[1]["detail"].replace(str(built["project"].pk), "N") == none[1]["detail"].replace("999999", "N")


def test_a_member_of_one_project_sees_nothing_of_another(built):
    other = Project.objects.create(name="other")
    Membership.objects.create(project=other, user=built["stranger"].user, role="lead")
    assert send(built["stranger"], "GET", f"/api/projects/{other.pk}/builds")[1] == []
    assert send(built["stranger"], "GET", f"/api/projects/{other.pk}/builds/1")[0] == 404
    assert send(built["stranger"], "GET", f"/api/projects/{other.pk}/builds/1/frames/eye")[0] == 404
    assert [p["name"] for p in send(built["stranger"], "GET", "/api/projects")[1]] == ["other"]


def test_files_are_not_found_by_hash(built):
    sha = send(built["viewer"], "GET", built["base"])[1]["files"][0]["sha256"]
    for path in (f"/api/files/{sha}", f"/media/{sha}", f"/files/{sha[:2]}/{sha}", f"{built['base']}/files/{sha}"):
        status, body = send(built["lead"], "GET", path)
        assert status in (404, 503, 200) and sha.encode() not in (body if isinstance(body, bytes) else b"")
        assert not (isinstance(body, bytes) and body.startswith(b"glTF"))


def test_writes_need_the_token_of_the_page(built):
    strict = Client(enforce_csrf_checks=True)
    strict.force_login(built["lead"].user)
    assert send(strict, "POST", "/api/projects", {"name": "x"})[0] == 403
    strict.get("/api/session")
    answer = strict.post(
        "/api/projects", '{"name": "x"}', "application/json", headers={"X-CSRFToken": strict.cookies["csrftoken"].value}
    )
    assert answer.status_code == 201


def test_signing_in_and_out(built):
    client = Client()
    assert send(client, "GET", "/api/session")[1]["username"] is None
    assert send(client, "POST", "/api/session", {"username": "lead", "password": "wrong"})[0] == 401
    assert send(client, "POST", "/api/session", {"username": "le\0ad", "password": "x"})[0] == 422
    assert send(client, "POST", "/api/session", {"username": "lead", "password": "a-long-password"})[1]["username"] == "lead"
    assert send(client, "GET", "/api/projects")[0] == 200
    send(client, "DELETE", "/api/session")
    assert send(client, "GET", "/api/projects")[0] == 401


def test_the_last_lead_stays(built):
    members = f"/api/projects/{built['project'].pk}/members"
    assert send(built["lead"], "DELETE", f"{members}/lead")[0] == 409
    assert send(built["lead"], "POST", members, {"username": "lead", "role": "viewer"})[0] == 409
    assert send(built["lead"], "POST", members, {"username": "artist", "role": "lead"})[0] == 200
    assert send(built["lead"], "DELETE", f"{members}/lead")[0] == 204


def test_answers_carry_the_headers(built):
    answer = built["viewer"].get("/api/session")
    assert "frame-ancestors 'none'" in answer["Content-Security-Policy"] and "script" not in answer["Content-Security-Policy"]
    assert answer["X-Content-Type-Options"] == "nosniff" and answer["X-Frame-Options"] == "DENY"
    assert answer["Cache-Control"] == "private, no-store"


def test_the_demo_user_cannot_sign_in_outside_the_demo(db):
    from django.contrib.auth import get_user_model

    from eddyfall.site.demo_start import PASSWORD, USER
    from eddyfall.site.launch import _shut_out_demo_user

    get_user_model().objects.create_user(USER, password=PASSWORD)
    get_user_model().objects.create_user("ana", password="a-long-password")
    _shut_out_demo_user()
    assert send(Client(), "POST", "/api/session", {"username": USER, "password": PASSWORD})[0] == 401
    assert send(Client(), "POST", "/api/session", {"username": "ana", "password": "a-long-password"})[0] == 200

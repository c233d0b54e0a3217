"""What a request meets before any view: who may, how large, which text; and errors that are always JSON."""

import json

import pytest
from django.conf import settings
from django.db import InterfaceError, OperationalError
from django.test import Client

from api_helpers import post_upload, send, upload
from eddyfall.workbench.models import Build, Intake

pytestmark = pytest.mark.django_db(transaction=True)
TEXTS = ["a\0b", "\ud800", "x\udfff y"]


class Body:
    """A body that says whether anyone has read it."""

    def __init__(self, data):
        self.data, self.was_read = data, False

    def read(self, *args):
        self.was_read = True
        return self.data

    readline = read

    def __len__(self):
        return len(self.data)


@pytest.mark.parametrize("path", ["/builds", "/builds/1/captures/eye"])
@pytest.mark.parametrize("who", ["anonymous", "stranger", "viewer"])
def test_who_may_not_upload_is_told_before_the_body_is_read(built, path, who):
    form = b'--b\r\nContent-Disposition: form-data; name="scene"; filename="a.glb"\r\n\r\nxx\r\n--b--\r\n'
    body, client = Body(form), Client(enforce_csrf_checks=True)
    client.cookies = built[who].cookies
    answer = client.generic(
        "POST", f"/api/projects/{built['project'].pk}{path}", b"", "multipart/form-data; boundary=b",
        **{"wsgi.input": body, "CONTENT_LENGTH": str(len(body))},
    )  # fmt: skip
    assert answer.status_code in (401, 403, 404) and not body.was_read, (answer.status_code, who)
    assert answer.json()["detail"]


def test_a_missing_token_is_told_before_the_body_is_read(built):
    body, client = Body(b"{}"), Client(enforce_csrf_checks=True)
    client.cookies = built["artist"].cookies
    answer = client.generic("POST", "/api/projects", b"", "application/json", **{"wsgi.input": body, "CONTENT_LENGTH": "2"})
    assert answer.status_code == 403 and not body.was_read


def test_uploads_under_way_are_bounded_by_address_and_in_all(built, monkeypatch):
    from eddyfall.site import limits

    seen = []
    middleware = limits.Limits(lambda request: seen.append(1) or limits.JsonResponse({}))

    class Asked:
        method, path = "POST", "/api/projects/1/builds"

        def __init__(self, address):
            self.META = {"CONTENT_TYPE": "multipart/form-data; boundary=b", "HTTP_X_REAL_IP": address}

    middleware.uploading.update({"10.0.0.1": limits.UPLOADS_OF_ONE})
    refused = middleware(Asked("10.0.0.1"))
    assert refused.status_code == 429 and refused["Retry-After"] and not seen
    assert middleware(Asked("10.0.0.2")).status_code == 200
    middleware.uploading.update({"10.0.0.2": limits.UPLOADS_AT_ONCE - limits.UPLOADS_OF_ONE})
    assert middleware(Asked("10.0.0.3")).status_code == 429
    assert middleware.uploading.total() == limits.UPLOADS_AT_ONCE, "what was refused or is over does not count"


@pytest.mark.parametrize("text", TEXTS)
def test_text_that_nothing_can_store_is_refused_wherever_it_stands(built, text):
    base = built["base"]
    asks = [
        ("POST", "/api/session", {"username": text, "password": text}),
        ("POST", "/api/projects", {"name": f"x{text}"}),
        ("POST", f"/api/projects/{built['project'].pk}/members", {"username": text, "role": "viewer"}),
        ("POST", base + "/cases", {"viewpoint": "eye", "title": f"t{text}", "symptom": "see-through"}),
        ("POST", base + "/cases", {"viewpoint": text, "symptom": "see-through"}),
        ("POST", base + "/sweeps", {"target": text}),
        ("POST", base + "/bakes", {"assets": [text]}),
        ("POST", base + "/setup/trial", {"path": "fog.enabled", "value": text, "viewpoint": "eye"}),
        ("POST", base + "/setup/trial", {"path": f"shaders/{text}/passes/depth", "value": True, "viewpoint": "eye"}),
        ("POST", base + "/ledger", {"change": {"id": "x", "title": text, "scope": "project", "patch": []}}),
        ("POST", base + "/ledger", {"change": {}, "evidence": {text: 1}}),
        ("POST", base + "/ledger", {"change": {}, "reason": text}),
    ]
    for method, path, body in asks:
        status, answer = send(built["lead"], method, path, body, 1)
        assert status == 422 and ("NUL" in answer["detail"] or "surrogate" in answer["detail"]), (path, status, answer)


@pytest.mark.parametrize(
    "path",
    [
        "/frames/a%00b", "/frames/eye?target=%00", "/captures/%00", "/lightmaps/%00/page", "/core-sample/%00?x=1&y=1",
        "/setup?viewpoint=%00", "/texels/%00", "/worth-baking?light_set=%00", "/files/%00",
    ],
)  # fmt: skip
def test_such_text_in_the_address_is_refused_too(built, path):
    status, body = send(built["lead"], "GET", built["base"] + path)
    assert status == 422 and "NUL" in body["detail"], (status, body)


@pytest.mark.parametrize(("method", "path", "status"), [
    ("GET", "/api/nothing", 404), ("PUT", "/api/projects", 405), ("PATCH", "/api/session", 405), ("GET", "/api/projects/x/builds", 404),
    ("POST", "/api/projects", 400), ("GET", "/api/projects/1/builds/99999999999999999999", 422),
])  # fmt: skip
def test_every_error_of_the_api_is_json(built, method, path, status):
    answer = built["lead"].generic(method, path, "{not json", "application/json")
    assert answer.status_code == status or (status == 422 and answer.status_code in (404, 422)), answer.status_code
    assert answer["Content-Type"].startswith("application/json") and json.loads(answer.content)["detail"]


def test_a_wrong_host_and_a_body_without_end_are_json_too(built, monkeypatch):
    answer = built["lead"].get("/api/session", headers={"host": "elsewhere.example"})
    assert answer.status_code == 400 and answer.json()["detail"]
    answer = built["lead"].post("/api/projects", '{"name": "' + "x" * (3 << 20) + '"}', "application/json")
    assert answer.status_code in (400, 413) and answer.json()["detail"]


@pytest.mark.parametrize("error", [OperationalError("server closed the connection"), InterfaceError("connection is closed")])
def test_a_database_that_is_away_is_a_503_that_says_when_to_come_again(built, monkeypatch, error):
    from eddyfall.workbench.api import routes

    def away(*args):
        raise error

    monkeypatch.setattr(routes, "project_for", away)
    built["lead"].raise_request_exception = False
    answer = built["lead"].get(built["base"])
    assert answer.status_code == 503 and int(answer["Retry-After"]) >= 1 and "database" in answer.json()["detail"]


def test_an_outage_is_one_line_of_the_log():
    import logging

    from eddyfall.site.logs import Calm

    calm, passed = Calm(), []
    for _ in range(500):
        try:
            raise OperationalError("connection refused\nIs the server running?\nmore")
        except OperationalError:
            record = logging.LogRecord("django.request", logging.ERROR, __file__, 1, "Internal Server Error: %s", ("/api",), None)
            record.exc_info = __import__("sys").exc_info()
        if calm.filter(record):
            passed.append(logging.Formatter().format(record))
    assert len(passed) == 1 and "\n" not in passed[0] and "does not answer" in passed[0]


def test_served_over_https_cookies_are_secure_and_browsers_are_told_to_stay(tmp_path):
    import os
    import subprocess
    import sys

    code = (
        "import django; django.setup()\nfrom django.test import Client\n"
        "a = Client().get('/api/session', headers={'X-Forwarded-Proto': 'https', 'host': 'localhost'})\n"
        "print(a.status_code, a.get('Strict-Transport-Security'), a.cookies['csrftoken']['secure'])"
    )
    for value, expected in (("1", "200 max-age=31536000 True"), ("0", "200 None ")):
        env = {**os.environ, "DJANGO_SETTINGS_MODULE": "eddyfall.site.settings", "EDDYFALL_SECRET_KEY": "x", "EDDYFALL_HTTPS": value,
               "PYTHONPATH": str(settings.ROOT / "src"), "EDDYFALL_MEDIA_ROOT": str(tmp_path)}  # fmt: skip
        run = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=env)
        assert run.stdout.strip() == expected.strip(), run.stderr


def test_names_of_any_length_go_through_intake_sweep_case_and_ledger(people, tmp_path):
    from api_helpers import bring
    from eddyfall.core.scene.names import MAX_NAME
    from eddyfall.demo.shapes import Shape
    from eddyfall.workbench import tasks
    from eddyfall.workbench.models import Job
    from scenes import FOGGED, Thing, build_of, flat, merged, wall, write_build

    net, shader, rope = ("fender net " + "n" * k for k in (184, 195, 380))
    setup = merged(FOGGED, {"shaders": {shader: {"passes": {"depth": False}}}, "materials": {rope: {"shader": shader}}})
    view = "v" * MAX_NAME
    setup["viewpoints"] = {view: setup["viewpoints"]["eye"]}
    nets = Shape().quad((-1.0, -0.2, -12.0), (2.0, 0, 0), (0, 0.4, 0))
    build = build_of(Thing(net, nets, flat(rope, 0.30)), Thing("far_bank", wall(85.0), flat("grass", 0.2)), setup=setup)
    bring(people, write_build(build, tmp_path, "long"))
    _, asked = send(people["artist"], "POST", people["base"] + "/sweeps", {})
    tasks.sweep(job_id=Job.objects.get(kind="sweep").pk)
    swept = send(people["viewer"], "GET", f"{people['base']}/sweeps/{asked['id']}")[1]
    assert swept["job"]["state"] == "done" and swept["items"], swept["job"]
    status, case = send(people["artist"], "POST", people["base"] + "/cases", {"finding": swept["items"][0]["id"]})
    assert status == 201 and case["viewpoint"] == view
    status, kept = send(people["artist"], "POST", f"{people['base']}/cases/1/keep", {"remedy": 0}, case["version"])
    assert status == 200, kept
    assert all(len(c["key"]) <= 200 for c in kept["kept"])


def test_intake_cleans_names_and_says_so(people, own_media):
    from hostile_files import triangle

    odd = triangle(
        nodes=[{"name": "gate\0\0", "mesh": 0}],
        meshes=[{"name": "m" * 5000, "primitives": [{"attributes": {"POSITION": 0}, "indices": 1}]}],
    )
    answer = upload(people["artist"], people["project"], odd)
    assert answer.status_code == 201, answer.content
    said = " ".join(answer.json()["facts"]["left_out"])
    assert "holds a NUL character" in said and "has 5000 characters" in said
    assert "\0" not in json.dumps(Build.objects.get().setup)


def test_settings_with_such_text_or_endless_keys_are_refused_with_the_place(people, net_files):
    for raw, words in (
        (b'"x_note": "a\\u0000"', "x_note: holds a NUL"),
        (b'"x_\\ud800": 1', "surrogate"),
        (b'"nodes": {"' + b"k" * 500 + b'": {}}', "key of 500 characters"),
    ):
        raw = b'{"eddyfall_setup": 1, ' + raw + b"}"
        answer = upload(people["artist"], people["project"], net_files[0], raw)
        assert answer.status_code == 422 and words in answer.json()["detail"], answer.json()


def test_intake_answers_with_a_job_that_shows_how_far_it_is(people, net_files):
    from eddyfall.workbench import jobs, tasks

    answer = post_upload(people["artist"], people["project"], *net_files)
    job = answer.json()
    assert answer.status_code == 202 and (job["state"], job["build"], job["about"]) == ("waiting", None, "intake of nets.glb")
    told = []
    first = jobs.Attempt.progress
    jobs.Attempt.progress = lambda self, what, share: (told.append((what, share)), first(self, what, share))[1]
    try:
        tasks.intake(job_id=job["id"])
    finally:
        jobs.Attempt.progress = first
    assert {"nets.glb: reading the scene", "nets.glb: counting what is in it"} & {what for what, _ in told}, told
    after = send(people["viewer"], "GET", f"/api/projects/{people['project'].pk}/jobs/{job['id']}")[1]
    assert (after["state"], after["build"], after["progress"]) == ("done", 1, 1.0)
    assert Intake.objects.get().scene_sha256 == "", "what it held is named by the build alone"


def test_vertices_are_counted_before_they_are_unpacked(people, own_media):
    """A small ZIP of forty million vertices, all zero, is refused by what its JSON claims."""
    from hostile_files import document, zip_of
    from scenes import glb_bytes

    n = 39_900_000
    claims = document(accessors=[{"componentType": 5126, "count": n, "type": "VEC3"}, {"componentType": 5126, "count": n, "type": "VEC3"}],
                      meshes=[{"primitives": [{"attributes": {"POSITION": 0, "NORMAL": 1}}]}])  # fmt: skip
    answer = upload(people["artist"], people["project"], zip_of(**{"a.glb": glb_bytes(claims)}), name="a.zip")
    assert answer.status_code == 422 and "claims 39900000 vertices" in answer.json()["detail"]
    drawn = document(nodes=[{"mesh": 0}] * 150_000, scenes=[{"nodes": list(range(150_000))}])
    drawn["accessors"][1] = {**drawn["accessors"][1], "count": 3 * 200}
    answer = upload(people["artist"], people["project"], glb_bytes(drawn), name="a.glb")
    assert answer.status_code == 422 and "draws 30000000 triangles" in answer.json()["detail"]


def test_a_build_that_does_not_fit_the_budget_is_refused_at_intake(people, net_files, monkeypatch):
    monkeypatch.setattr(settings, "MEMORY_BYTES", 2000)
    answer = upload(people["artist"], people["project"], *net_files)
    assert answer.status_code == 422 and "this server's budget" in answer.json()["detail"]


def test_the_health_says_which_part_is_ill_and_how_full_it_is_to_who_is_signed_in(built):
    status, body = send(built["viewer"], "GET", "/api/health")
    assert status == 503 and not body["parts"]["workers"]["ok"], "no worker runs in a test"
    assert body["parts"]["database"]["ok"] and body["parts"]["files"]["free_bytes"] > 0
    assert body["parts"]["studio"]["remembered_bytes"] <= body["parts"]["studio"]["budget_bytes"]
    assert send(Client(), "GET", "/api/health")[1]["parts"]["files"] == {"ok": True}

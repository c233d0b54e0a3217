"""The API against its own description: nothing random, and nothing made to break it, makes the server fail."""

import json
from copy import deepcopy
from urllib.parse import quote, urlencode

import pytest
import schemathesis
from django.conf import settings
from django.core.wsgi import get_wsgi_application
from hypothesis import HealthCheck, given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st
from schemathesis.checks import not_a_server_error

from sizes import of_many

LEFT_ALONE = {("get", "/api/health")}  # without workers it is 503, as it should be: tested elsewhere
# What takes away what the other cases need comes last, the session at the very end.
LAST = [("delete", "/api/projects/{project_id}/members/{username}"), ("delete", "/api/projects/{project_id}/builds/{number}"),
        ("delete", "/api/projects/{project_id}"), ("post", "/api/session/password"), ("post", "/api/session"),
        ("delete", "/api/session")]  # fmt: skip
CASES = of_many(2000, 600)
BAD = {"NUL": "a\0b", "surrogate": "\ud800x", "huge": "x" * 200_000, "number": 10**400, "control": "\x1b[2J\u202e"}


def spoilt(value, how, at):
    """A body with one of its leaves replaced by something bad, or left out."""
    leaves = []

    def walk(owner):
        for key, item in owner.items() if isinstance(owner, dict) else enumerate(owner):
            leaves.append((owner, key))
            if isinstance(item, dict | list):
                walk(item)

    if not isinstance(value, dict | list):
        return BAD.get(how, value)
    value = deepcopy(value)
    walk(value)
    if not leaves:
        return value
    owner, key = leaves[at % len(leaves)]
    if how == "missing":
        del owner[key]
    else:
        owner[key] = BAD[how]
    return value


def hostile(client, case, how, at, real):
    """The answer to a case with something bad in its body, path or query."""
    client.raise_request_exception = False
    places = {k: str(v) for k, v in case.path_parameters.items()}
    free = [k for k in places if k not in real]
    if free and how in ("NUL", "control", "huge"):
        places[free[at % len(free)]] = BAD[how][:4000]
    query = {k: str(v) for k, v in (case.query or {}).items()}
    if query and how in ("NUL", "huge", "control", "surrogate"):
        query[sorted(query)[at % len(query)]] = BAD[how][:5000]
    path = case.path
    for key, value in places.items():
        path = path.replace("{" + key + "}", quote(value, safe="", errors="replace"))
    body = case.body if isinstance(case.body, dict | list) else None
    text = "" if body is None else json.dumps(spoilt(body, how, at), default=str)
    if case.media_type == "multipart/form-data":
        form = {k: BAD.get(how, "x") if how != "number" else "1" for k in list(body or {"scene": 1})[:2]}
        return client.post(path, {k: str(v).replace("\ud800", "?") for k, v in form.items()})
    return client.generic(case.method, f"{path}?{urlencode(query, errors='replace')}", text, "application/json")


@pytest.mark.django_db(transaction=True)
def test_nothing_random_or_hostile_is_a_server_error(built, monkeypatch):
    from eddyfall.workbench.api import routes

    # The token of the page is tested elsewhere; here every request would need a fresh one. So are sign-ins that are throttled.
    monkeypatch.setattr(routes, "check_csrf", lambda request: None)
    monkeypatch.setattr(settings, "ALLOWED_HOSTS", ["*"])
    cookies = {"sessionid": built["lead"].cookies["sessionid"].value}
    real = {"project_id": built["project"].pk, "number": 1, "viewpoint": "eye", "case_number": 1}
    schema = schemathesis.openapi.from_wsgi("/api/openapi.json", get_wsgi_application())
    operations = [result.ok() for result in schema.get_all_operations()]
    place = lambda o: LAST.index((o.method.lower(), o.path)) if (o.method.lower(), o.path) in LAST else -1  # noqa: E731
    operations = sorted((o for o in operations if (o.method.lower(), o.path) not in LEFT_ALONE), key=place)
    tried = []
    for operation in operations:

        @hypothesis_settings(
            max_examples=CASES // len(operations) + 1, deadline=None, database=None, suppress_health_check=list(HealthCheck),
            derandomize=True,
        )  # fmt: skip
        @given(
            case=operation.as_strategy(), named=st.booleans(), how=st.sampled_from([None, None, *BAD, "missing"]),
            at=st.integers(0, 30),
        )  # fmt: skip
        def attempt(case, named, how, at):
            if named:
                case.path_parameters.update({k: v for k, v in real.items() if k in case.path_parameters})
            if how is None:
                answer = case.call(cookies=cookies)
                case.validate_response(answer, checks=[not_a_server_error])
                kind = answer.headers.get("content-type", [""])[0]
            else:
                answer = hostile(built["lead"], case, how, at, real if named else {})
                kind = answer.headers.get("Content-Type", "")
                assert answer.status_code < 500, (case.method, case.path, case.path_parameters, case.query, case.body)
            assert answer.status_code < 400 or kind.startswith("application/json"), (case.path, answer.status_code, kind)
            tried.append(answer.status_code)

        attempt()
    assert len(tried) >= CASES * 0.9 and {200, 404, 422} <= set(tried), len(tried)

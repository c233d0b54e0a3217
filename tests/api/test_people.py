"""People: the throttle of sign-ins, invitations that are accepted, names, passwords, and what is written down of it."""

import pytest
from django.contrib.auth import get_user_model
from django.test import Client
from django.utils import timezone

from api_helpers import send, signed_in
from eddyfall.workbench.models import Event, Membership, Project, WrongSignIn
from eddyfall.workbench.services import accounts

RIGHT = {"username": "lead", "password": "a-long-password"}


def wrong(client, name="lead", address="10.0.0.7"):
    ask = {"username": name, "password": "not this"}
    return client.post("/api/session", ask, "application/json", headers={"X-Real-IP": address})


def right(client, address="10.0.0.7", name="lead"):
    return client.post("/api/session", {**RIGHT, "username": name}, "application/json", headers={"X-Real-IP": address})


def pass_time(seconds):
    for row in WrongSignIn.objects.all():
        row.at -= timezone.timedelta(seconds=seconds)
        row.save()


def test_five_wrong_ones_of_a_name_from_an_address_close_it_for_five_minutes(people):
    client = Client()
    assert [wrong(client).status_code for _ in range(6)] == [401] * 5 + [429]
    refused = right(client)
    assert (
        refused.status_code == 429 and 0 < int(refused["Retry-After"]) <= 300 and "try again in 5 min" in refused.json()["detail"]
    )
    assert right(Client(), address="10.0.0.8").status_code == 200, "from elsewhere the user gets in"
    pass_time(301)
    assert right(client).status_code == 200


def test_an_address_that_tries_many_names_is_closed_and_no_password_is_hashed(people, monkeypatch):
    hashed = []
    real = accounts.authenticate
    monkeypatch.setattr(accounts, "authenticate", lambda *a, **k: (hashed.append(1), real(*a, **k))[1])
    answers = [wrong(Client(), name=f"guess_{k}").status_code for k in range(30)]
    assert answers == [401] * 10 + [429] * 20 and len(hashed) == 10
    assert wrong(Client(), name="guess_31", address="10.9.9.9").status_code == 401
    pass_time(61)
    assert wrong(Client(), name="guess_32").status_code == 401


def test_a_name_that_is_tried_from_everywhere_is_closed_but_not_for_a_browser_it_knows(people):
    at_home = Client()
    assert right(at_home, address="10.0.0.1").status_code == 200
    at_home.delete("/api/session")
    for k in range(30):
        assert wrong(Client(), address=f"10.1.0.{k}").status_code == 401
    assert right(Client(), address="10.2.0.1").status_code == 429
    assert right(at_home, address="10.0.0.1").status_code == 200
    known = at_home.cookies[accounts.KNOWN_COOKIE]
    assert known["httponly"] and known["samesite"] == "Lax"


def test_who_guesses_beside_a_user_does_not_shut_their_browser_out(people):
    """The same address and the same name: an office behind one router."""
    at_home = Client()
    assert right(at_home).status_code == 200
    at_home.delete("/api/session")
    assert [wrong(Client()).status_code for _ in range(6)] == [401] * 5 + [429]
    assert right(at_home).status_code == 200
    assert [wrong(at_home).status_code for _ in range(6)] == [401] * 5 + [429], "and is throttled by itself"


def test_a_right_one_forgets_the_wrong_ones_before_it(people):
    client = Client()
    for _ in range(4):
        wrong(client)
    assert right(client).status_code == 200
    assert not WrongSignIn.objects.exists()


def test_what_was_typed_as_a_name_is_not_stored(people):
    wrong(Client(), name="my-password-by-mistake")
    assert "mistake" not in str(list(WrongSignIn.objects.values_list("name", flat=True)))


def test_wrong_names_and_wrong_passwords_look_alike(people):
    assert wrong(Client()).json() == wrong(Client(), name="nobody", address="10.0.0.9").json()


def test_who_is_invited_accepts_and_only_then_sees_the_project(people):
    base = f"/api/projects/{people['project'].pk}"
    ana = signed_in("ana")
    status, body = send(people["lead"], "POST", base + "/members", {"username": "ana", "role": "artist"})
    assert status == 200 and body == {"username": "ana", "role": "artist", "invited": True}
    assert send(ana, "GET", base)[0] == 404 and send(ana, "GET", "/api/projects")[1] == []
    [invitation] = send(ana, "GET", "/api/invitations")[1]
    assert (invitation["project"], invitation["role"], invitation["invited_by"]) == ("Weirgate", "artist", "lead")
    assert send(people["stranger"], "POST", f"/api/invitations/{invitation['id']}")[0] == 404
    assert send(people["stranger"], "DELETE", f"/api/invitations/{invitation['id']}")[0] == 404
    status, project = send(ana, "POST", f"/api/invitations/{invitation['id']}")
    assert status == 200 and project["role"] == "artist"
    assert send(ana, "GET", base)[0] == 200 and send(ana, "GET", "/api/invitations")[1] == []
    assert send(ana, "POST", f"/api/invitations/{invitation['id']}")[0] == 404, "once"


def test_inviting_tells_nobody_whether_a_name_exists(people):
    base = f"/api/projects/{people['project'].pk}/members"
    signed_in("ana")
    known = send(people["lead"], "POST", base, {"username": "ana", "role": "viewer"})
    unknown = send(people["lead"], "POST", base, {"username": "bea", "role": "viewer"})
    assert known[0] == unknown[0] == 200
    assert {**known[1], "username": ""} == {**unknown[1], "username": ""}
    listed = send(people["lead"], "GET", base)[1]
    assert [m["invited"] for m in listed if m["username"] in ("ana", "bea")] == [True, True]
    bea = signed_in("bea")
    assert len(send(bea, "GET", "/api/invitations")[1]) == 1, "who takes the name later finds it"


def test_an_invitation_is_declined_changed_and_withdrawn(people):
    base = f"/api/projects/{people['project'].pk}/members"
    ana = signed_in("ana")
    for role in ("viewer", "lead"):
        send(people["lead"], "POST", base, {"username": "ana", "role": role})
    [invitation] = send(ana, "GET", "/api/invitations")[1]
    assert invitation["role"] == "lead"
    assert send(ana, "DELETE", f"/api/invitations/{invitation['id']}")[0] == 204
    send(people["lead"], "POST", base, {"username": "ana", "role": "viewer"})
    assert send(people["lead"], "DELETE", base + "/ana")[0] == 204
    assert send(ana, "GET", "/api/invitations")[1] == []
    assert send(people["lead"], "DELETE", base + "/ana")[0] == 404


def test_a_members_role_changes_at_once(people):
    base = f"/api/projects/{people['project'].pk}/members"
    assert send(people["lead"], "POST", base, {"username": "viewer", "role": "artist"})[1]["invited"] is False
    assert Membership.objects.get(user__username="viewer").role == "artist"


@pytest.mark.parametrize("name", ["a b", "a\u202eb", "a\u200bb", "<script>", "a/b", "", "x" * 151, "a\x1b[31m"])
def test_names_that_read_as_others_or_move_the_terminal_are_refused(people, name):
    base = f"/api/projects/{people['project'].pk}/members"
    assert send(people["lead"], "POST", base, {"username": name, "role": "viewer"})[0] == 422
    with pytest.raises(accounts.Refused):
        accounts.make_user(name, "soundings-of-the-weir")


def test_users_are_made_with_names_that_are_free_and_passwords_that_hold(db):
    assert accounts.make_user("\uff41na", "soundings-of-the-weir").get_username() == "ana"
    for name, password in (
        ("ANA", "soundings-of-the-weir"),
        ("ben", "short"),
        ("ben", "password1234"),
        ("gatekeeper", "gatekeeper"),
    ):
        with pytest.raises(accounts.Refused):
            accounts.make_user(name, password)
    assert get_user_model().objects.count() == 1


def test_another_password_ends_the_other_sessions(people):
    here, there = Client(), Client()
    for client in (here, there):
        assert right(client).status_code == 200
    assert send(here, "POST", "/api/session/password", {"old": "not this", "new": "soundings-of-the-weir"})[0] == 401
    assert send(here, "POST", "/api/session/password", {"old": "a-long-password", "new": "short"})[0] == 422
    assert send(here, "POST", "/api/session/password", {"old": "a-long-password", "new": "soundings-of-the-weir"})[0] == 200
    assert send(here, "GET", "/api/projects")[0] == 200
    assert send(there, "GET", "/api/projects")[0] == 401
    assert right(Client()).status_code == 401
    assert send(Client(), "POST", "/api/session", {**RIGHT, "password": "soundings-of-the-weir"})[0] == 200


def test_what_people_do_is_written_down(people):
    right(Client())
    own = send(people["lead"], "GET", "/api/session/events")[1]
    assert [(e["who"], e["what"], e["about"]) for e in own] == [("lead", "signed in", "from 10.0.0.7")]
    assert send(people["viewer"], "GET", "/api/session/events")[1] == []
    project = people["project"]
    assert send(people["lead"], "DELETE", f"/api/projects/{project.pk}")[0] == 204
    assert not Project.objects.filter(pk=project.pk).exists()
    own = send(people["lead"], "GET", "/api/session/events")[1]
    assert own[0]["what"] == "project deleted" and own[0]["about"].endswith(": Weirgate")
    assert Event.objects.count() >= 2

"""What the demo makes before the site answers: its user, two empty projects, and a job for each that fills it."""

import pytest
from django.contrib.auth import authenticate

from eddyfall.site.demo_start import PASSWORD, PROJECTS, USER, prepare, standing
from eddyfall.workbench.models import Job, Project

pytestmark = pytest.mark.django_db(transaction=True)


def test_projects_and_jobs_are_made_once_and_a_failed_job_is_asked_for_again():
    prepare()
    assert authenticate(username=USER, password=PASSWORD) is not None
    assert tuple(Project.objects.order_by("pk").values_list("name", flat=True)) == PROJECTS
    first = list(Job.objects.order_by("pk"))
    assert [j.kind for j in first] == ["demo"] * len(PROJECTS) and standing() == (False, False, [])
    prepare()
    assert list(Job.objects.order_by("pk")) == first
    Job.objects.filter(pk=first[0].pk).update(state=Job.FAILED)
    prepare()
    assert set(Job.objects.filter(state=Job.WAITING).values_list("project__name", flat=True)) == set(PROJECTS)
    assert Project.objects.count() == len(PROJECTS)


def test_a_demo_user_who_was_shut_out_comes_back():
    prepare()
    user = Project.objects.get(name=PROJECTS[0]).memberships.get().user
    user.is_active = False
    user.save()
    prepare()
    assert authenticate(username=USER, password=PASSWORD) == user


def test_what_is_filled_is_left_alone(people, net_files):
    from api_helpers import upload

    prepare()
    lead = Project.objects.get(name=PROJECTS[1]).memberships.get().user
    client = people["artist"]
    client.force_login(lead)
    assert upload(client, Project.objects.get(name=PROJECTS[1]), *net_files).status_code == 201
    Job.objects.filter(kind="demo").update(state=Job.DONE)
    prepare()
    waiting = Job.objects.filter(kind="demo", state=Job.WAITING)
    assert {j.project.name for j in waiting} == {PROJECTS[0], *PROJECTS[2:]}, (
        "the river front needs its sweep, the hall only its build"
    )
    assert standing() == (True, False, [])
    waiting.update(state=Job.FAILED, message="the disk is full")
    assert standing() == (True, True, [f"{name}: the disk is full" for name in PROJECTS if name != PROJECTS[1]])

"""Jobs: cancelled, killed, taken over; results stand whole or not at all."""

from datetime import timedelta

import pytest
from django.utils import timezone

from api_helpers import send
from eddyfall.workbench import jobs, tasks
from eddyfall.workbench.models import Finding, Job, Sweep

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def asked(built):
    _, body = send(built["artist"], "POST", built["base"] + "/sweeps", {})
    built["job"] = Job.objects.get(kind="sweep")
    built["sweep_id"] = body["id"]
    return built


def test_one_sweep_of_a_build_at_a_time(asked):
    assert send(asked["artist"], "POST", asked["base"] + "/sweeps", {})[0] == 409
    assert Job.objects.filter(kind="sweep").count() == 1


def test_a_waiting_job_is_cancelled_at_once(asked):
    url = f"/api/projects/{asked['project'].pk}/jobs/{asked['job'].pk}/cancel"
    assert send(asked["viewer"], "POST", url)[0] == 403
    assert send(asked["artist"], "POST", url)[1]["state"] == "cancelled"
    tasks.sweep(job_id=asked["job"].pk)
    assert not Finding.objects.exists() and Sweep.objects.get().result is None


def test_a_running_job_hears_of_its_cancel(asked, monkeypatch):
    monkeypatch.setattr(jobs, "TELL_EVERY_S", 0)
    first = jobs.Attempt.progress

    def told(self, what, share):
        Job.objects.filter(kind="sweep").update(cancel_asked=True)
        first(self, what, share)

    monkeypatch.setattr(jobs.Attempt, "progress", told)
    tasks.sweep(job_id=asked["job"].pk)
    assert Job.objects.get(kind="sweep").state == "cancelled" and not Finding.objects.exists()


def test_a_dead_workers_job_is_started_anew_and_fails_after_three(asked):
    for attempt in (1, 2, 3):
        jobs.Attempt(asked["job"].pk)
        Job.objects.filter(kind="sweep").update(heartbeat=timezone.now() - timedelta(seconds=60))
        assert jobs.revive_silent() == 1
        job = Job.objects.get(kind="sweep")
        assert job.attempts == attempt
        assert job.state == ("waiting" if attempt < 3 else "failed")
    assert "died 3 times" in Job.objects.get(kind="sweep").message
    assert send(asked["artist"], "POST", asked["base"] + "/sweeps", {})[0] == 201, "it can be asked for again"


def test_an_attempt_that_was_taken_over_writes_nothing(asked):
    late = jobs.Attempt(asked["job"].pk)
    Job.objects.filter(kind="sweep").update(heartbeat=timezone.now() - timedelta(seconds=60))
    jobs.revive_silent()
    tasks.sweep(job_id=asked["job"].pk)
    findings = Finding.objects.count()
    with pytest.raises(jobs.Superseded):
        late.end(Job.DONE, "late", lambda: Finding.objects.all().delete())
    with pytest.raises(jobs.Superseded):
        late.told = 0
        late.progress("late", 0.5)
    assert Finding.objects.count() == findings == 1 and Job.objects.get(kind="sweep").state == "done"


def test_a_result_that_cannot_be_written_leaves_no_half(asked, monkeypatch):
    from eddyfall.workbench.services import sweeps

    real = sweeps.store

    def breaks(sweep, result):
        real(sweep, result)
        raise RuntimeError("the disk is full")

    monkeypatch.setattr(sweeps, "store", breaks)
    tasks.sweep(job_id=asked["job"].pk)
    job = Job.objects.get(kind="sweep")
    assert job.state == "failed" and not Finding.objects.exists() and Sweep.objects.get().result is None


def test_a_silent_but_living_attempt_keeps_its_job(asked, monkeypatch):
    import time

    monkeypatch.setattr(jobs, "BEAT_EVERY_S", 0.05)

    def work(attempt):
        Job.objects.filter(kind="sweep").update(heartbeat=timezone.now() - timedelta(seconds=60))
        time.sleep(0.4)
        assert jobs.revive_silent() == 0
        return "done", None

    jobs.run(asked["job"].pk, work)
    assert Job.objects.get(kind="sweep").state == "done"


def test_the_core_refusing_is_told_in_its_words(asked):
    from eddyfall.core.errors import SceneError

    def work(attempt):
        raise SceneError("is broken", "mesh 3")

    jobs.run(asked["job"].pk, work)
    assert Job.objects.get(kind="sweep").state == "failed" and Job.objects.get(kind="sweep").message == "mesh 3: is broken"

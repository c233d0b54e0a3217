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


def test_what_a_sweep_has_found_is_shown_while_it_runs_and_not_after(asked, monkeypatch):
    seen, real = [], jobs.Attempt.progress

    def looks(attempt, what, share):
        real(attempt, what, share)
        seen.append(send(asked["viewer"], "GET", asked["base"] + "/sweeps")[1][0]["underway"])

    monkeypatch.setattr(jobs.Attempt, "progress", looks)
    monkeypatch.setattr("eddyfall.workbench.jobs.TELL_EVERY_S", 0.0)
    tasks.sweep(job_id=the_job().pk)
    line = send(asked["viewer"], "GET", asked["base"] + "/sweeps")[1][0]
    assert line["underway"] == [] and line["job"]["state"] == "done"
    [item] = send(asked["viewer"], "GET", f"{asked['base']}/sweeps/{line['id']}")[1]["items"]
    told = [rows[0] for rows in seen if rows]
    assert not told[0]["proved"] and told[0]["severity"] is None and told[0]["impact"] is None
    proved = next(t for t in told if t["proved"])
    wanted = item["document"]
    assert {k: proved[k] for k in ("fingerprint", "code", "title", "what", "severity", "impact")} == {
        k: wanted[k] for k in ("fingerprint", "code", "title", "what", "severity", "impact")
    }
    assert proved["remedy"] == next(r["title"] for r in wanted["remedies"] if r["verdict"] == "cures")


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


def the_job():
    return Job.objects.get(kind="sweep")


def queued():
    from procrastinate.contrib.django.models import ProcrastinateJob

    mine = ProcrastinateJob.objects.filter(task_name="eddyfall.sweep", args__job_id=the_job().pk)
    return mine.filter(status="todo").count()


def test_a_job_whose_process_is_gone_is_started_anew_at_once(asked):
    """Nobody waits for silence where it can be seen that the worker is dead."""
    import socket
    import subprocess

    jobs.Attempt(asked["job"].pk)
    assert jobs.revive() == 0, "it lives: it is this process"
    dead = subprocess.Popen(["true"])
    dead.wait()
    Job.objects.filter(kind="sweep").update(held_by=f"{socket.gethostname()} {dead.pid} 12345")
    assert jobs.revive(count_silence=False) == 1
    assert the_job().state == "waiting" and "attempt 2" in the_job().message and queued() == 2


def test_after_an_outage_silence_says_nothing_of_a_worker(asked):
    jobs.Attempt(asked["job"].pk)
    Job.objects.filter(kind="sweep").update(heartbeat=timezone.now() - timedelta(seconds=600))
    assert jobs.revive_silent(count_silence=False) == 0
    assert jobs.revive_silent() == 1


def test_a_job_that_the_queue_has_lost_is_queued_again(asked):
    """Its worker died after it took the job and before it began."""
    from django.db import connection

    assert jobs.requeue_lost() == 0 and queued() == 1
    with connection.cursor() as cursor:
        cursor.execute("DELETE FROM procrastinate_jobs")
    Job.objects.update(created=timezone.now() - timedelta(seconds=60))
    assert jobs.requeue_lost() == 1 and queued() == 1
    assert jobs.requeue_lost() == 0, "once"


def test_a_database_that_goes_away_in_the_middle_costs_no_attempt(asked):
    from django.db import OperationalError

    def work(attempt):
        raise OperationalError("server closed the connection unexpectedly")

    before = queued()
    jobs.run(asked["job"].pk, work)
    assert (the_job().state, the_job().attempts) == ("waiting", 0) and queued() == before + 1
    tasks.sweep(job_id=asked["job"].pk)
    assert (the_job().state, the_job().attempts) == ("done", 1)


def test_a_result_waits_for_a_database_that_is_away(asked, monkeypatch):
    from django.db import InterfaceError

    real, tries = jobs.Attempt._end, []

    def end(self, *args):
        tries.append(1)
        if len(tries) < 3:
            raise InterfaceError("connection is closed")
        return real(self, *args)

    monkeypatch.setattr(jobs.Attempt, "_end", end)
    monkeypatch.setattr(jobs.time, "sleep", lambda s: None)
    tasks.sweep(job_id=asked["job"].pk)
    assert len(tries) == 3 and the_job().state == "done" and Finding.objects.count() == 1


def test_deleting_a_build_ends_its_jobs_and_an_attempt_under_way_writes_nothing(asked):
    attempt = jobs.Attempt(asked["job"].pk)
    assert send(asked["lead"], "DELETE", asked["base"])[0] == 204
    assert (the_job().state, the_job().message) == ("cancelled", "build 1 was deleted")
    attempt.told = 0
    with pytest.raises(jobs.Superseded):
        attempt.progress("late", 0.5)
    tasks.sweep(job_id=asked["job"].pk)
    assert the_job().state == "cancelled" and not Finding.objects.exists()


def test_a_build_deleted_in_the_middle_of_its_sweep_leaves_nothing(asked, monkeypatch, own_media):
    monkeypatch.setattr(jobs, "TELL_EVERY_S", 0)
    first = jobs.Attempt.progress

    def told(self, what, share):
        if share > 0.2:
            send(asked["lead"], "DELETE", asked["base"])
        first(self, what, share)

    monkeypatch.setattr(jobs.Attempt, "progress", told)
    tasks.sweep(job_id=asked["job"].pk)
    assert the_job().state == "cancelled" and not Sweep.objects.exists()
    assert [p for p in own_media.rglob("*") if p.is_file()] == []


def test_what_nothing_needs_is_swept_up(asked):
    from django.contrib.sessions.models import Session
    from django.db import connection

    from eddyfall.workbench.models import WrongSignIn
    from eddyfall.workbench.upkeep import sweep_queue, sweep_up

    tasks.sweep(job_id=asked["job"].pk)
    old = timezone.now() - timedelta(days=3)
    Session.objects.filter(session_key=asked["viewer"].cookies["sessionid"].value).update(expire_date=old)
    WrongSignIn.objects.create(name="x", address="y", at=old)
    with connection.cursor() as cursor:
        cursor.execute("UPDATE procrastinate_jobs SET status = 'doing'")
        cursor.execute("UPDATE procrastinate_jobs SET status = 'succeeded'")
    sweep_up()
    assert queued() == 0 and not WrongSignIn.objects.exists()
    assert send(asked["viewer"], "GET", "/api/projects")[0] == 401 and send(asked["artist"], "GET", "/api/projects")[0] == 200
    sweep_queue(hours=-1)
    with connection.cursor() as cursor:
        cursor.execute("SELECT count(*) FROM procrastinate_jobs")
        assert cursor.fetchone() == (0,)

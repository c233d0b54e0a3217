"""Long work, as the worker does it: progress, cancel, heartbeat, retry. Results are written in one transaction by one attempt."""

import functools
import logging
import os
import socket
import threading
import time
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import DatabaseError, InterfaceError, OperationalError, close_old_connections, connection, transaction
from django.utils import timezone
from procrastinate.contrib.django import app

from eddyfall.core.errors import EddyfallError
from eddyfall.workbench.errors import Refused
from eddyfall.workbench.models import Job, Project
from eddyfall.workbench.outages import outage

MAX_ATTEMPTS = 3
BEAT_EVERY_S = 3
TELL_EVERY_S = 0.4
AWAY_S = 900  # how long a result is held for a database that is away
UNQUEUED_S = 10  # a job that has waited so long is looked for in the queue
UNEXPECTED = "it failed unexpectedly; the worker's log says why"
QUICK = ("intake",)
log = logging.getLogger(__name__)


class Cancelled(Exception):
    """The user asked for an end."""


class Superseded(Exception):
    """Another attempt has taken this job over."""


def new(project: Project, user: Any, kind: str) -> Job:
    """A job row, in the caller's transaction."""
    return Job.objects.create(project=project, kind=kind, created_by=user, message="waiting for the worker")


def defer(kind: str, job: Job) -> None:
    """Hand a job to the worker, in the same transaction as the rows it will fill."""
    app.configure_task(f"eddyfall.{kind}", queue="quick" if kind in QUICK else "default").defer(job_id=job.pk)


@functools.cache
def this_process() -> str:
    """Machine, process and when it started: what holds a job, in a form that tells whether it still lives."""
    return f"{socket.gethostname()} {os.getpid()} {_started(os.getpid())}"


def _started(pid: int) -> str:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[19]
    except OSError:
        return ""


def _holder_is_dead(held_by: str) -> bool:
    """Whether a process of this machine held a job and is no more."""
    machine, _, rest = held_by.partition(" ")
    pid, _, start = rest.partition(" ")
    return machine == socket.gethostname() and pid.isdigit() and _started(int(pid)) != start


def patiently(work: Callable[[], Any]) -> Any:
    """Do a piece of work on the database, and again when the database was away, for a quarter of an hour."""
    end, pause = time.monotonic() + AWAY_S, 0.5
    while True:
        try:
            return work()
        except (OperationalError, InterfaceError) as error:
            away = outage(error)
            if connection.in_atomic_block or time.monotonic() > end or (away is not None and away[0] == 507):
                raise
            log.warning("the database does not answer; a job waits for it")
            close_old_connections()
            time.sleep(pause)
            pause = min(pause * 1.5, 5.0)


class Attempt:
    """One try at a job: says how far it is, hears of a cancel, and ends the job once."""

    def __init__(self, job_id: int) -> None:
        self.job_id = job_id
        self.last_written = 0.0
        with transaction.atomic():
            job = Job.objects.select_for_update().get(pk=job_id)
            if job.state != Job.WAITING:
                raise Superseded
            job.attempts += 1
            job.state, job.heartbeat, job.held_by = Job.RUNNING, timezone.now(), this_process()
            job.started = job.started or timezone.now()
            job.save()
        self.number = job.attempts

    def progress(self, what: str, share: float) -> None:
        """Called by the core as it goes. Raises Cancelled or Superseded."""
        now = time.monotonic()
        if now - self.last_written < TELL_EVERY_S:
            return
        self.last_written = now
        try:
            mine = Job.objects.filter(pk=self.job_id, attempts=self.number, state=Job.RUNNING)
            if not mine.update(progress=share, message=what[:400], heartbeat=timezone.now()):
                raise Superseded
            if mine.filter(cancel_asked=True).exists():
                raise Cancelled
        except (OperationalError, InterfaceError):
            close_old_connections()  # the work goes on; how far it is can be told later

    def end(self, state: str, message: str, write: Any = None, *, keeps: bool = False) -> None:
        """Write results and the job's end together, or neither; a database that is away is waited for. keeps: what was done before a
        cancel is written all the same."""
        patiently(lambda: self._end(state, message, write, keeps))

    @transaction.atomic
    def _end(self, state: str, message: str, write: Any, keeps: bool) -> None:
        job = Job.objects.select_for_update().filter(pk=self.job_id).first()
        if job is None or job.attempts != self.number or job.state != Job.RUNNING:
            raise Superseded
        if job.cancel_asked and state == Job.DONE:
            state, message, write = Job.CANCELLED, f"cancelled; {message}" if keeps else "cancelled", write if keeps else None
        if write is not None:
            write()
        job.state, job.message, job.ended = state, message[:400], timezone.now()
        job.progress = 1.0 if state == Job.DONE else job.progress
        job.save()

    @transaction.atomic
    def put_back(self) -> None:
        """Have the job start anew without an attempt lost: it was the database that went, not the work that failed."""
        job = Job.objects.select_for_update().filter(pk=self.job_id).first()
        if job is not None and job.attempts == self.number and job.state == Job.RUNNING:
            job.state, job.attempts, job.progress = Job.WAITING, job.attempts - 1, 0.0
            job.message = "the database was away; waiting for the worker"
            job.save()
            defer(job.kind, job)


def run(job_id: int, work: Any, *, keeps: bool = False) -> None:
    """Do `work(attempt)`, which returns (message, write), and end the job whatever happens. keeps: see Attempt.end."""
    try:
        attempt = patiently(lambda: Attempt(job_id))
    except (Superseded, Job.DoesNotExist):
        return
    over = threading.Event()
    threading.Thread(target=_beat, args=(attempt, over), daemon=True, name=f"heartbeat of job {job_id}").start()
    try:
        _work(attempt, work, keeps)
    except Superseded:
        log.warning("job %s: another attempt took over, or what it was for is gone", job_id)
    finally:
        over.set()


def _work(attempt: Attempt, work: Any, keeps: bool) -> None:
    try:
        message, write = work(attempt)
        attempt.end(Job.DONE, message, write, keeps=keeps)
    except Superseded:
        raise
    except Cancelled:
        attempt.end(Job.CANCELLED, "cancelled")
    except (EddyfallError, Refused) as error:
        attempt.end(Job.FAILED, str(error))
    except (OperationalError, InterfaceError, OSError) as error:
        away = outage(error)
        if away is None or away[0] == 507:
            log.exception("job %s failed", attempt.job_id)
            attempt.end(Job.FAILED, away[1] if away else UNEXPECTED)
            return
        log.warning("job %s: the database went away; it starts anew", attempt.job_id)
        patiently(attempt.put_back)
    except Exception as error:
        if not patiently(lambda: Job.objects.filter(pk=attempt.job_id, attempts=attempt.number, state=Job.RUNNING).exists()):
            raise Superseded from error  # its rows were deleted under it
        log.exception("job %s failed", attempt.job_id)
        attempt.end(Job.FAILED, UNEXPECTED)


def _beat(attempt: Attempt, over: threading.Event) -> None:
    """Say every few seconds that this attempt lives, however long the core is silent."""
    while not over.wait(BEAT_EVERY_S):
        try:
            Job.objects.filter(pk=attempt.job_id, attempts=attempt.number, state=Job.RUNNING).update(heartbeat=timezone.now())
        except DatabaseError:
            close_old_connections()
    close_old_connections()


def cancel(job: Job) -> None:
    """Ask a job to end; one that waits ends at once."""
    with transaction.atomic():
        row = Job.objects.select_for_update().get(pk=job.pk)
        row.cancel_asked = True
        if row.state == Job.WAITING:
            row.state, row.message, row.ended = Job.CANCELLED, "cancelled", timezone.now()
        row.save()


def cancel_of(builds: Any, why: str) -> None:
    """End every job that works on some builds, in the caller's transaction; an attempt under way finds itself superseded."""
    works = ("sweep", "bake", "package", "intake", "delivery")
    for field in (*(f"{w}__build__in" for w in works), "proof__case__build__in"):
        Job.objects.filter(**{field: builds}, state__in=Job.UNDER_WAY).update(
            state=Job.CANCELLED, message=why, ended=timezone.now(), cancel_asked=True
        )


def revive(count_silence: bool = True) -> int:
    """Start anew what a dead worker left, queue anew what the queue has lost; returns how many were touched.

    count_silence: whether it says something that a worker has not been heard of for some time.
    """
    return revive_silent(count_silence) + requeue_lost()


def revive_silent(count_silence: bool = True) -> int:
    """Start anew what a dead worker left, and fail what has died too often; returns how many were touched.

    A worker of this machine is dead when its process is; one of another machine when it was silent for too long.
    """
    limit = timezone.now() - timedelta(seconds=settings.JOB_SILENT_S)
    touched = 0
    with transaction.atomic():
        for job in Job.objects.select_for_update(skip_locked=True).filter(state=Job.RUNNING):
            silent = count_silence and job.heartbeat is not None and job.heartbeat < limit
            if not silent and not _holder_is_dead(job.held_by):
                continue
            touched += 1
            if job.cancel_asked:
                job.state, job.message, job.ended = Job.CANCELLED, "cancelled", timezone.now()
            elif job.attempts >= MAX_ATTEMPTS:
                job.state, job.ended = Job.FAILED, timezone.now()
                job.message = f"the worker died {job.attempts} times at it; ask for it again"
            else:
                job.state, job.progress = Job.WAITING, 0.0
                job.message = f"the worker died; attempt {job.attempts + 1} of {MAX_ATTEMPTS} is waiting"
            job.save()
            if job.state == Job.WAITING:
                defer(job.kind, job)
    return touched


def requeue_lost() -> int:
    """Queue anew jobs that wait although nothing in the queue will start them: their worker died between taking and starting them."""
    from procrastinate.contrib.django.models import ProcrastinateJob

    touched = 0
    with transaction.atomic():
        for job in Job.objects.select_for_update(skip_locked=True).filter(state=Job.WAITING):
            queued = ProcrastinateJob.objects.filter(args__job_id=job.pk, task_name=f"eddyfall.{job.kind}")
            if (timezone.now() - job.created).total_seconds() < UNQUEUED_S or queued.filter(status="todo").exists():
                continue
            defer(job.kind, job)
            touched += 1
    return touched

"""Long work, as the worker does it: progress, cancel, heartbeat, retry. Results are written in one transaction by one attempt."""

import logging
import threading
import time
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.db import DatabaseError, close_old_connections, transaction
from django.utils import timezone
from procrastinate.contrib.django import app

from eddyfall.core.errors import EddyfallError
from eddyfall.workbench.models import Job, Project

MAX_ATTEMPTS = 3
BEAT_EVERY_S = 3
TELL_EVERY_S = 0.4
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
    app.configure_task(f"eddyfall.{kind}").defer(job_id=job.pk)


class Attempt:
    """One try at a job: says how far it is, hears of a cancel, and ends the job once."""

    def __init__(self, job_id: int) -> None:
        self.job_id = job_id
        self.told = 0.0
        with transaction.atomic():
            job = Job.objects.select_for_update().get(pk=job_id)
            if job.state not in (Job.WAITING, Job.RUNNING):
                raise Superseded
            job.attempts += 1
            job.state, job.heartbeat = Job.RUNNING, timezone.now()
            job.started = job.started or timezone.now()
            job.save()
        self.number = job.attempts

    def progress(self, what: str, share: float) -> None:
        """Called by the core as it goes. Raises Cancelled or Superseded."""
        now = time.monotonic()
        if now - self.told < TELL_EVERY_S:
            return
        self.told = now
        mine = Job.objects.filter(pk=self.job_id, attempts=self.number, state=Job.RUNNING)
        if not mine.update(progress=share, message=what[:400], heartbeat=timezone.now()):
            raise Superseded
        if mine.filter(cancel_asked=True).exists():
            raise Cancelled

    def end(self, state: str, message: str, write: Any = None, *, keeps: bool = False) -> None:
        """Write results and the job's end together, or neither. keeps: what was done before a cancel is written all the same."""
        with transaction.atomic():
            job = Job.objects.select_for_update().get(pk=self.job_id)
            if job.attempts != self.number or job.state != Job.RUNNING:
                raise Superseded
            if job.cancel_asked and state == Job.DONE:
                state, message, write = Job.CANCELLED, f"cancelled; {message}" if keeps else "cancelled", write if keeps else None
            if write is not None:
                write()
            job.state, job.message, job.ended = state, message[:400], timezone.now()
            job.progress = 1.0 if state == Job.DONE else job.progress
            job.save()


def run(job_id: int, work: Any, *, keeps: bool = False) -> None:
    """Do `work(attempt)`, which returns (message, write), and end the job whatever happens. keeps: see Attempt.end."""
    try:
        attempt = Attempt(job_id)
    except (Superseded, Job.DoesNotExist):
        return
    alive = threading.Event()
    threading.Thread(target=_beat, args=(attempt, alive), daemon=True, name=f"heartbeat of job {job_id}").start()
    try:
        message, write = work(attempt)
        attempt.end(Job.DONE, message, write, keeps=keeps)
    except Superseded:
        log.warning("job %s: another attempt took over", job_id)
    except Cancelled:
        attempt.end(Job.CANCELLED, "cancelled")
    except EddyfallError as error:
        attempt.end(Job.FAILED, str(error))
    except Exception:
        log.exception("job %s failed", job_id)
        attempt.end(Job.FAILED, "it failed unexpectedly; the worker's log says why")
    finally:
        alive.set()


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


def revive_silent() -> int:
    """Start anew what a dead worker left, and fail what has died too often; returns how many were touched."""
    limit = timezone.now() - timedelta(seconds=settings.JOB_SILENT_S)
    touched = 0
    with transaction.atomic():
        for job in Job.objects.select_for_update(skip_locked=True).filter(state=Job.RUNNING, heartbeat__lt=limit):
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

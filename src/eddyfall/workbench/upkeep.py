"""Takes away what nothing needs any more: files, light, sessions, old wrong sign-ins, and the queue's record of what is long done."""

from datetime import timedelta

from django.contrib.sessions.models import Session
from django.utils import timezone

from eddyfall.core.bake.maps.store import STORE
from eddyfall.workbench import files
from eddyfall.workbench.models import Change, WrongSignIn

QUEUE_HOURS = 24


def sweep_up() -> None:
    """Everything once."""
    files.remove_leftovers()
    STORE.trim(needed=kept_light())
    Session.objects.filter(expire_date__lt=timezone.now()).delete()
    WrongSignIn.objects.filter(at__lt=timezone.now() - timedelta(days=1)).delete()
    sweep_queue()


def kept_light() -> set[str]:
    """Keys of gathered light that a change in some ledger needs."""
    rows = Change.objects.filter(dropped=None, evidence__has_key="raws").values_list("evidence__raws", flat=True)
    return {key for raws in rows for key in raws or ()}


def sweep_queue(hours: float = QUEUE_HOURS) -> None:
    """Forget queued work that ended some hours ago, and what a dead worker held: our own jobs say what became of it."""
    from django.db import connection

    with connection.cursor() as cursor:
        cursor.execute(
            "DELETE FROM procrastinate_jobs j WHERE j.status IN ('succeeded', 'failed', 'cancelled', 'aborted') AND NOT EXISTS "
            "(SELECT 1 FROM procrastinate_events e WHERE e.job_id = j.id AND e.at > now() - make_interval(secs => %s))",
            [hours * 3600],
        )
        cursor.execute(
            "DELETE FROM procrastinate_jobs j WHERE j.status = 'doing' AND NOT EXISTS "
            "(SELECT 1 FROM procrastinate_workers w WHERE w.id = j.worker_id AND w.last_heartbeat > now() - make_interval(secs => %s))",
            [hours * 3600],
        )

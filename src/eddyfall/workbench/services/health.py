"""Looks at each part the server stands on: database, workers, studio, the folder of files and the space it has."""

import contextlib
import os
import shutil
import time
from datetime import timedelta
from multiprocessing.connection import Client
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import InterfaceError, OperationalError, connection
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateWorker

from eddyfall.workbench.models import Job
from eddyfall.workbench.services.pictures import AT_HAND
from eddyfall.workbench.studio.room import STUDIO

AWAY = (OperationalError, InterfaceError)
SILENT_S = 45  # a worker writes every ten seconds
LEAST_FREE_BYTES = 512 * 1024**2
WORKERS = 2


def look() -> dict[str, dict[str, Any]]:
    """By part: {"ok", and what there is to say in numbers}."""
    return {"database": _database(), "workers": _workers(), "studio": _studio(), "files": _files(), "web": _web()}


def _database() -> dict[str, Any]:
    start = time.perf_counter()
    try:
        with connection.cursor() as cursor:
            cursor.execute("SELECT 1")
    except AWAY:
        return {"ok": False, "why": "it does not answer"}
    return {"ok": True, "answered_in_s": round(time.perf_counter() - start, 4)}


def _workers() -> dict[str, Any]:
    try:
        beats = list(ProcrastinateWorker.objects.values_list("last_heartbeat", flat=True))
        jobs = {state: Job.objects.filter(state=state).count() for state in (Job.WAITING, Job.RUNNING)}
    except AWAY:
        return {"ok": False, "why": "the database does not answer"}
    now = timezone.now()
    ages = sorted(max((now - beat).total_seconds(), 0.0) for beat in beats)
    alive = sum(1 for beat in beats if now - beat < timedelta(seconds=SILENT_S))
    return {"ok": alive >= WORKERS, "alive": alive, "last_heartbeat_s": round(ages[0], 1) if ages else None, **jobs}


def _studio() -> dict[str, Any]:
    address = os.environ.get("EDDYFALL_STUDIO")
    if not address:
        return {"ok": True, "remembered_bytes": STUDIO.memory.bytes, "budget_bytes": STUDIO.memory.limit_bytes}
    try:
        with contextlib.closing(Client(address, "AF_UNIX")) as line:
            line.send("state")
            if line.poll(3):
                return {"ok": True, **line.recv()[1]}
    except (OSError, EOFError):
        pass
    return {"ok": False, "why": "it does not answer"}


def _files() -> dict[str, Any]:
    folder = Path(settings.MEDIA_ROOT)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        free = shutil.disk_usage(folder).free
        writable = os.access(folder, os.W_OK | os.X_OK)
    except OSError as error:
        return {"ok": False, "why": error.strerror or "cannot be read"}
    return {"ok": writable and free >= LEAST_FREE_BYTES, "writable": writable, "free_bytes": free}


def _web() -> dict[str, Any]:
    resident = int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")
    return {"ok": True, "resident_bytes": resident, "at_hand_bytes": AT_HAND.bytes, "at_hand_budget_bytes": AT_HAND.limit_bytes}

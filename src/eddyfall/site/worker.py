"""The workers' entry: `long` does sweeps, bakes, proofs and hand overs, one at a time; `quick` brings builds in and looks after the rest.

python -m eddyfall.site.worker long | quick
"""

import logging
import os
import sys
import threading
import time

log = logging.getLogger("eddyfall.worker")
LOOK_EVERY_S = 2.0
SWEEP_EVERY_S = 3600.0


def main() -> None:
    """Work until told to end."""
    import django
    from django.core.management import CommandError, call_command

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "eddyfall.site.settings")
    django.setup()
    quick = sys.argv[1:] == ["quick"]
    if quick:
        from eddyfall.workbench.reading import start_early

        os.nice(5)
        threading.Thread(target=start_early, daemon=True).start()
        threading.Thread(target=_upkeep, daemon=True, name="upkeep").start()
    else:
        os.nice(15)  # who waits for a frame comes first
        if os.environ.get("EDDYFALL_DEMO") == "1":
            from eddyfall.site import demo_data  # noqa: F401  (its task fills the demo's projects)
    from procrastinate.exceptions import ConnectorException

    try:
        call_command("procrastinate", "worker", "--concurrency", "1", "--queues", "quick" if quick else "default")
    except (ConnectorException, CommandError) as error:
        log.error("the worker lost the database and ends, to be started again: %s", str(error).strip().splitlines()[0])
        sys.exit(1)


def _upkeep() -> None:
    """Look for jobs whose worker has died, and now and then for what nothing needs any more; whatever happens, go on."""
    from django.db import DatabaseError, InterfaceError, close_old_connections

    from eddyfall.workbench.jobs import revive
    from eddyfall.workbench.services.intakes import let_go_of_ended
    from eddyfall.workbench.upkeep import sweep_up

    swept, was_away = 0.0, time.monotonic()
    while True:
        try:
            # After a time without the database, silence says nothing of a worker until it has had time to speak again.
            revive(count_silence=time.monotonic() - was_away > 15.0)
            let_go_of_ended()
            if time.monotonic() - swept > SWEEP_EVERY_S or not swept:
                swept = time.monotonic()
                sweep_up()
        except (DatabaseError, InterfaceError) as error:
            was_away = time.monotonic()
            log.warning(
                "upkeep: the database does not answer: %s", str(error).splitlines()[0] if str(error) else type(error).__name__
            )
        except Exception:
            log.exception("upkeep failed")
        finally:
            close_old_connections()
        time.sleep(LOOK_EVERY_S)


if __name__ == "__main__":
    main()

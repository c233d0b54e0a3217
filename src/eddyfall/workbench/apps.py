"""App configuration."""

from pathlib import Path

from django.apps import AppConfig
from django.conf import settings


class WorkbenchConfig(AppConfig):
    name = "eddyfall.workbench"
    label = "workbench"

    def ready(self) -> None:
        from eddyfall.core.bake.maps.store import STORE
        from eddyfall.core.extras import load_extras

        if settings.BAKE_CACHE:
            STORE.folder = Path(settings.BAKE_CACHE)
        load_extras()

"""The entry for gunicorn."""

import os
import threading

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "eddyfall.site.settings")
application = get_wsgi_application()

from eddyfall.workbench.reading import start_early  # noqa: E402

threading.Thread(target=start_early, daemon=True).start()

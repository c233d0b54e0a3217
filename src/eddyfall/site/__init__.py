"""The Django project: settings, addresses, the entry for gunicorn, and what starts the whole stack on one machine."""

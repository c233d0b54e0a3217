"""The site's settings with what only tests may have."""

from eddyfall.site.settings import *  # noqa: F403

SECRET_KEY = "only for tests"
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]

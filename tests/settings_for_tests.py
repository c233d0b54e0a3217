"""The site's settings with what only tests may have."""

import os

from eddyfall.site.settings import *  # noqa: F403

SECRET_KEY = "only for tests"
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
BAKE_CACHE = os.environ.get("EDDYFALL_BAKE_CACHE")
DATABASES["default"]["OPTIONS"].pop("pool")  # noqa: F405  (threads of tests close their connections themselves)

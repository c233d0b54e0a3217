"""Signing in, with a throttle by name and by address; names and passwords of people."""

import hashlib
import math
import threading
import unicodedata
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.contrib.auth import authenticate, get_user_model, login, update_session_auth_hash
from django.contrib.auth.password_validation import validate_password
from django.contrib.auth.validators import UnicodeUsernameValidator
from django.core.exceptions import ValidationError
from django.db.models import Q
from django.http import HttpRequest, HttpResponse
from django.utils import timezone

from eddyfall.workbench.errors import Refused
from eddyfall.workbench.models import WrongSignIn
from eddyfall.workbench.services.projects import note

# Wrong ones within seconds, after which none more is tried: of a name from an address, of an address, of a name.
OF_NAME_AT_ADDRESS, OF_ADDRESS, OF_NAME = (5, 300), (10, 60), (30, 300)
KNOWN_COOKIE, KNOWN_S = "eddyfall_known", 90 * 24 * 3600
HASHING_AT_ONCE = 1  # a password's hash takes about a third of a second of a core and 16 MiB, on purpose
HASHING_WAIT_S = 4.0
DO_NOT_FIT = "this name and password do not fit"

_hashing = threading.BoundedSemaphore(HASHING_AT_ONCE)


def sign_in(request: HttpRequest, username: str, password: str, address: str) -> Any:
    """Sign a user in. Refused(401) if name and password do not fit, Refused(429) after too many that did not.

    A browser that the name has signed in with before is known by a cookie: who guesses from elsewhere, or from the same office, does not
    shut its user out.
    """
    user = _verified(username, password, address, request)
    login(request, user)
    note(None, user, "signed in", f"from {address}")
    return user


def change_password(request: HttpRequest, old: str, new: str, address: str) -> None:
    """Give the signed-in user another password; their other sessions end. Refused(401) if the old one is wrong, 422 if the new is weak."""
    user: Any = request.user
    _verified(user.get_username(), old, address, request)
    try:
        validate_password(new, user)
    except ValidationError as error:
        raise Refused(422, "password: " + " ".join(error.messages)) from None
    user.set_password(new)
    user.save(update_fields=["password"])
    update_session_auth_hash(request, user)
    note(None, user, "password changed", f"from {address}")


def checked_name(username: str) -> str:
    """A name as people may have it: letters, digits and . @ + - _, compatibility forms folded (NFKC). Refused(422) for others."""
    name = unicodedata.normalize("NFKC", username)
    try:
        UnicodeUsernameValidator()(name)
    except ValidationError:
        raise Refused(422, "username: may hold letters, digits and . @ + - _ only") from None
    if len(name) > 150:
        raise Refused(422, "username: may have 150 characters")
    return name


def make_user(username: str, password: str) -> Any:
    """A new user. Refused(422) for a name that may not be or is taken, or a weak password."""
    name = checked_name(username)
    users = get_user_model()
    if users.objects.filter(username__iexact=name).exists():
        raise Refused(422, f"user {name!r} is there already")
    try:
        validate_password(password, users(username=name))
    except ValidationError as error:
        raise Refused(422, " ".join(error.messages)) from None
    return users.objects.create_user(name, password=password)


def _verified(username: str, password: str, address: str, request: HttpRequest) -> Any:
    name = _hashed(username)
    known = _is_known(request, name)
    address = f"known {address}"[:64] if known else address  # counted by themselves: a guesser beside them has no such cookie
    _throttle(name, address, known)
    if not _hashing.acquire(timeout=HASHING_WAIT_S):
        raise Refused(429, "many are signing in just now; try again shortly", retry_after_s=5)
    try:
        user = authenticate(request, username=username, password=password)
    finally:
        _hashing.release()
    if user is None:
        WrongSignIn.objects.create(name=name, address=address, at=timezone.now())
        raise Refused(401, DO_NOT_FIT)
    WrongSignIn.objects.filter(name=name, address=address).delete()
    return user


def _throttle(name: str, address: str, known: bool) -> None:
    """Refused(429) while too many wrong ones are remembered, before a password is hashed."""
    now = timezone.now()
    since = now - timedelta(seconds=max(s for _, s in (OF_NAME_AT_ADDRESS, OF_ADDRESS, OF_NAME)))
    rows = WrongSignIn.objects.filter(Q(name=name) | Q(address=address), at__gt=since).order_by("-at")
    wrong = list(rows.values_list("name", "address", "at")[:200])
    limits = [(OF_NAME_AT_ADDRESS, [at for n, a, at in wrong if (n, a) == (name, address)])]
    if not known:
        limits += [(OF_ADDRESS, [at for n, a, at in wrong if a == address]), (OF_NAME, [at for n, a, at in wrong if n == name])]
    for (most, window_s), mine in limits:
        if len(mine) >= most and (left := window_s - (now - mine[most - 1]).total_seconds()) > 0:
            when = f"{math.ceil(left / 60)} min" if left > 60 else f"{math.ceil(left)} s"
            raise Refused(
                429, f"too many names and passwords that did not fit; try again in {when}", retry_after_s=math.ceil(left)
            )


def remember_browser(answer: HttpResponse, username: str) -> None:
    """Have a browser known as one that a name has signed in with."""
    answer.set_signed_cookie(
        KNOWN_COOKIE, _hashed(username), max_age=KNOWN_S, httponly=True, samesite="Lax", secure=settings.SESSION_COOKIE_SECURE
    )  # fmt: skip


def _is_known(request: HttpRequest, name: str) -> bool:
    return bool(request.get_signed_cookie(KNOWN_COOKIE, "", max_age=KNOWN_S) == name)


def _hashed(username: str) -> str:
    return hashlib.sha256(unicodedata.normalize("NFKC", username).casefold().encode("utf-8", "replace")).hexdigest()

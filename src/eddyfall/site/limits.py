"""What a request meets first: its size, how many uploads are under way, and that every answer under /api/ is JSON.

Outermost of all middleware, so that it sees whatever the rest makes of a request.
"""

import threading
from collections import Counter
from collections.abc import Callable

from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse

from eddyfall.workbench.outages import outage

POLICY = "default-src 'self'; img-src 'self' blob: data:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
UPLOADS_AT_ONCE, UPLOADS_OF_ONE = 6, 3
WORDS = {
    400: "this is no request that can be read",
    403: "this is not allowed",
    404: "this does not exist",
    405: "this cannot be done here",
    413: "the request is larger than it may be",
    500: "it failed unexpectedly; the server's log says why",
}


class Limits:
    """Sizes, uploads under way, headers of every answer, and errors as JSON."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response
        self.lock = threading.Lock()
        self.uploading: Counter[str] = Counter()

    def __call__(self, request: HttpRequest) -> HttpResponse:
        answer = self._answer(request)
        if request.path.startswith("/api/"):
            if answer.status_code >= 400 and not answer.headers.get("Content-Type", "").startswith("application/json"):
                answer = _as_json(answer)
            answer.headers.setdefault("Cache-Control", "private, no-store")
        answer.headers.setdefault("Content-Security-Policy", POLICY)
        return answer

    def _answer(self, request: HttpRequest) -> HttpResponse:
        length = request.META.get("CONTENT_LENGTH") or "0"
        if length.isdigit() and int(length) > settings.UPLOAD_MAX_BYTES:
            return JsonResponse({"detail": f"an upload may have {settings.UPLOAD_MAX_BYTES >> 20} MiB"}, status=413)
        if request.method == "GET" or not request.META.get("CONTENT_TYPE", "").startswith("multipart/form-data"):
            return self.get_response(request)
        who = str(request.META.get("HTTP_X_REAL_IP") or request.META.get("REMOTE_ADDR"))
        with self.lock:
            if self.uploading.total() >= UPLOADS_AT_ONCE or self.uploading[who] >= UPLOADS_OF_ONE:
                detail = "other uploads are under way; ask again shortly"
                return JsonResponse({"detail": detail}, status=429, headers={"Retry-After": "5"})
            self.uploading[who] += 1
        try:
            return self.get_response(request)
        finally:
            with self.lock:
                self.uploading[who] -= 1
                self.uploading += Counter()  # forgets those that have none


def _as_json(answer: HttpResponse) -> HttpResponse:
    headers = {k: v for k, v in answer.headers.items() if k.lower() in ("retry-after", "allow", "www-authenticate")}
    result = JsonResponse(
        {"detail": WORDS.get(answer.status_code, answer.reason_phrase)}, status=answer.status_code, headers=headers
    )
    result.cookies = answer.cookies
    return result


def failed(request: HttpRequest, error: BaseException) -> HttpResponse:
    """The answer to what nobody expected: 503 or 507 where the machine fails, else 500."""
    away = outage(error)
    if away is None:
        return JsonResponse({"detail": WORDS[500]}, status=500)
    status, words, after = away
    return JsonResponse({"detail": words}, status=status, headers={"Retry-After": str(after)})

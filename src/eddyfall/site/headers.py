"""Headers every answer carries, and the size a request may have."""

from collections.abc import Callable

from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse

POLICY = "default-src 'self'; img-src 'self' blob: data:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"


class SecurityHeaders:
    """Content security policy on everything; nothing from the API is kept by shared caches."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        length = request.META.get("CONTENT_LENGTH") or "0"
        if length.isdigit() and int(length) > settings.UPLOAD_MAX_BYTES:
            return JsonResponse({"detail": f"an upload may have {settings.UPLOAD_MAX_BYTES >> 20} MiB"}, status=413)
        response = self.get_response(request)
        response.headers.setdefault("Content-Security-Policy", POLICY)
        if request.path.startswith("/api/"):
            response.headers.setdefault("Cache-Control", "private, no-store")
        return response

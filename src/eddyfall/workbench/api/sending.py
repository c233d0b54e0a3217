"""Stored files as answers: nginx sends them where it stands in front, so that a slow reader holds no thread; else this process does."""

import mimetypes
import os
from typing import Any

from django.http import FileResponse, HttpResponse
from django.utils.http import content_disposition_header

from eddyfall.workbench import files
from eddyfall.workbench.errors import NotThere


def send_file(sha256: str, what: str, *, kind: str | None = None, save_as: str | None = None) -> Any:
    """The content with a hash. kind: its media type, else by its name; save_as: downloaded under a name. NotThere if it was deleted."""
    kind = kind or mimetypes.guess_type(save_as or "")[0] or "application/octet-stream"
    if os.environ.get("EDDYFALL_FRONT") != "1":
        return FileResponse(
            files.open_file(sha256, what), content_type=kind, as_attachment=save_as is not None, filename=save_as or ""
        )
    if not files.path_of(sha256).exists():
        raise NotThere(what)
    answer = HttpResponse(content_type=kind, headers={"X-Accel-Redirect": f"/-/stored/{sha256[:2]}/{sha256}"})
    if disposition := content_disposition_header(save_as is not None, save_as or ""):
        answer.headers["Content-Disposition"] = disposition
    return answer

"""Uploads as they arrive: into a file beside the store at once, never into memory, where the sweeper finds what a killed process left."""

import contextlib
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.files.uploadedfile import TemporaryUploadedFile, UploadedFile
from django.core.files.uploadhandler import FileUploadHandler, TemporaryFileUploadHandler


def incoming() -> Path:
    """The folder of content on its way in."""
    folder = Path(settings.MEDIA_ROOT) / "incoming"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


class ArrivingFile(TemporaryUploadedFile):
    """An upload in the folder of what is on its way in, on the disk of the store."""

    def __init__(self, name: Any, content_type: Any, size: Any, charset: Any, content_type_extra: Any = None) -> None:
        file = tempfile.NamedTemporaryFile(suffix=".upload", dir=incoming())  # noqa: SIM115  (closed with the request)
        UploadedFile.__init__(self, file, name, content_type, size, charset, content_type_extra)


class ArrivingFiles(TemporaryFileUploadHandler):
    """Django's handler of uploads into files, with ours."""

    def new_file(self, *args: Any, **kwargs: Any) -> None:
        FileUploadHandler.new_file(self, *args, **kwargs)
        self.file = ArrivingFile(self.file_name, self.content_type, 0, self.charset, self.content_type_extra)

    def receive_data_chunk(self, raw_data: Any, start: Any) -> None:
        with self._gone_if_full():
            super().receive_data_chunk(raw_data, start)

    def file_complete(self, file_size: Any) -> Any:
        with self._gone_if_full():
            return super().file_complete(file_size)

    @contextlib.contextmanager
    def _gone_if_full(self) -> Iterator[None]:
        """On a full disk, what has arrived goes at once."""
        try:
            yield
        except OSError:
            with contextlib.suppress(OSError):  # what could not be written cannot be written on closing either
                self.file.close()
            raise

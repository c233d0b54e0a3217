"""Lists are given in pages."""

from typing import Any

from ninja import Schema
from pydantic import Field


class Page(Schema):
    """Which part of a list: at most 200 rows from `offset`."""

    limit: int = Field(50, ge=1, le=200)
    offset: int = Field(0, ge=0, le=1_000_000)


def page_of(rows: Any, page: Page) -> Any:
    """The rows of a page."""
    return rows[page.offset : page.offset + page.limit]

"""The code blocks of docs/guide.md, which the tests of its recipes run."""

import re
from pathlib import Path

GUIDE = Path(__file__).parents[1] / "docs" / "guide.md"


def recipe(name: str) -> str:
    """The code block that begins with ```name."""
    found = re.search(rf"^```{re.escape(name)}\n(.*?)^```$", GUIDE.read_text(), re.M | re.S)
    assert found, f"docs/guide.md has no block {name}"
    return found.group(1)

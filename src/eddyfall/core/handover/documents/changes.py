"""A change as it stands in a change file."""

from typing import Any

from eddyfall.core.scene.changes import Change


def change_json(change: Change) -> dict[str, Any]:
    """A change as a JSON object: either its operation or its patch, and no value where one is removed."""
    document = change.model_dump(mode="json")
    if change.operation is None:
        document.pop("operation")
    else:
        document.pop("patch")
    for op in document.get("patch", []):
        if op["op"] == "remove":
            op.pop("value")
    return document


def optional_change(change: Change | None) -> dict[str, Any] | None:
    """The same of a change that may not be there."""
    return None if change is None else change_json(change)

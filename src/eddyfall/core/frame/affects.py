"""What a leaf of the setup affects: the passes that read it, as they say themselves, and what else uses it."""

from functools import cache
from typing import Any, get_args

from pydantic import BaseModel

from eddyfall.core.frame.schedule import schedule, settings_of
from eddyfall.core.passes.contract import Pass
from eddyfall.core.scene.setup import Setup, setup_schema
from eddyfall.core.scene.setup.registry import sections
from eddyfall.core.scene.setup.tables import Answers, MaterialMap, MoveKey, Parameter, ParameterValue, Passes, Slot


def affects(path: str) -> list[str]:
    """Names of the passes that read a leaf ("fog.rgb", "nodes.casts"), in the order they are drawn, then what else uses it.

    KeyError for a leaf that the setup does not have."""
    table = path.split(".")[0]
    passes = [p.name for p, leaves in zip(schedule(), _settings(schedule())) if path in leaves or table in leaves]
    holder, _, field = path.rpartition(".")
    info = _holders()[holder].model_fields[field].json_schema_extra
    return passes + list(info["beside"] if isinstance(info, dict) and isinstance(info.get("beside"), list) else [])  # type: ignore[arg-type]


@cache
def _settings(ordered: tuple[Pass[Any], ...]) -> tuple[frozenset[str], ...]:
    return tuple(frozenset(settings_of(p)) for p in ordered)


def _holders() -> dict[str, type[BaseModel]]:
    """By the start of a path: the model whose fields follow it."""
    tables = {
        name: kind
        for name, field in Setup.model_fields.items()
        for kind in get_args(field.annotation)
        if isinstance(kind, type) and issubclass(kind, BaseModel)
    }
    inner: dict[str, type[BaseModel]] = {
        "shaders.passes": Passes, "shaders.answers": Answers, "shaders.slots": Slot, "materials.maps": MaterialMap, "moves.keys": MoveKey,
        "shaders.parameters": Parameter, "materials.values": ParameterValue,
    }  # fmt: skip
    return {**sections(), **tables, **inner}


def described_schema() -> dict[str, Any]:
    """The JSON Schema of the setup document, each leaf with `affects` beside its unit."""
    schema = setup_schema()
    holders = {kind.__name__: holder for holder, kind in _holders().items()}
    for name, definition in schema["$defs"].items():
        for field, described in definition.get("properties", {}).items():
            beside = described.pop("beside", None)
            if beside is not None:
                described["affects"] = affects(f"{holders[name]}.{field}") if name in holders else beside
    return schema

"""One settable field: default, unit, range and meaning. Sections are made of these; which passes read it, the passes themselves say."""

from typing import Annotated, Any

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field


class Section(BaseModel):
    """A strict, immutable group of settings. Unknown keys are errors; x_* keys are set aside before validation."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True, allow_inf_nan=False)


def leaf(default: Any, unit: str, meaning: str, *, beside: str = "", **limits: Any) -> Any:
    """A field with its documentation: `unit` ('m', '1/m', 'px', 'nit', '-'), one-line `meaning`, what uses it besides the passes."""
    extra: Any = {"unit": unit, "beside": beside.split()}
    if callable(default):
        return Field(default_factory=default, description=meaning, json_schema_extra=extra, **limits)
    return Field(default, description=meaning, json_schema_extra=extra, **limits)


def _as_tuple(value: Any) -> Any:
    return (
        tuple(float(v) if isinstance(v, int) and not isinstance(v, bool) else v for v in value)
        if isinstance(value, list)
        else value
    )


Rgb = Annotated[tuple[float, float, float], BeforeValidator(_as_tuple)]
Vec2 = Annotated[tuple[float, float], BeforeValidator(_as_tuple)]
Vec3 = Annotated[tuple[float, float, float], BeforeValidator(_as_tuple)]

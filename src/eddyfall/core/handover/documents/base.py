"""The base of every document, and numbers and values as JSON can hold them."""

import math
from typing import Annotated, Any

import numpy as np
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field


def plain(value: Any) -> Any:
    """Any nesting of numbers, arrays and text as JSON can hold it. NaN and infinity become None."""
    if isinstance(value, BaseModel):
        return plain(value.model_dump(mode="json", by_alias=True))
    if isinstance(value, dict):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, (list, tuple, set, frozenset)):
        return [plain(v) for v in value]
    if isinstance(value, np.ndarray):
        return plain(value.tolist())
    if isinstance(value, np.generic):
        return plain(value.item())
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    return value


class Document(BaseModel):
    """One JSON object of stable keys. Arrays and NumPy numbers are taken as they come."""

    model_config = ConfigDict(
        frozen=True, populate_by_name=True, serialize_by_alias=True, json_schema_serialization_defaults_required=True
    )


# What may be infinite or undefined is null in JSON.
Finite = Annotated[float | None, BeforeValidator(plain)]
Numbers = Annotated[list[float], BeforeValidator(plain)]
Whole = Annotated[list[int], BeforeValidator(plain)]
# Two or three of them: lists, since clients' types know no lengths.
Pair = Annotated[list[float], BeforeValidator(plain), Field(min_length=2, max_length=2)]
WholePair = Annotated[list[int], BeforeValidator(plain), Field(min_length=2, max_length=2)]
Triple = Annotated[list[float], BeforeValidator(plain), Field(min_length=3, max_length=3)]
# Facts of a family, values of settings: whatever JSON can hold.
Anything = Annotated[Any, BeforeValidator(plain)]
Facts = Annotated[dict[str, Any], BeforeValidator(plain)]

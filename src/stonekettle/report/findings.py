"""Findings to plain data and back, by one model: the dataclasses of the core themselves.

In a document what is not a number is null.
"""

from __future__ import annotations

import math
from typing import Annotated, Any

from cattrs import Converter
from cattrs.errors import BaseValidationError
from pydantic import PlainSerializer, PlainValidator, TypeAdapter, WithJsonSchema
from pydantic.json_schema import GenerateJsonSchema, JsonSchemaValue
from pydantic_core import core_schema

from stonekettle.core.analysis import Analysis


def _converter() -> Converter:
    converter = Converter()
    for kind in (bool, int):  # numpy's own are neither
        converter.register_unstructure_hook(kind, kind)
    converter.register_unstructure_hook(float, lambda value: float(value) if math.isfinite(value) else None)
    converter.register_structure_hook(float, lambda value, _: math.nan if value is None else float(value))
    return converter


_CONVERTER = _converter()


def write(analysis: Analysis) -> dict[str, Any]:
    """The findings as plain JSON data."""
    document: dict[str, Any] = _CONVERTER.unstructure(analysis, Analysis)
    return document


def read(data: Any) -> Analysis:
    """The findings that :func:`write` told; ValueError where the data are of other findings."""
    if isinstance(data, Analysis):
        return data
    try:
        return _CONVERTER.structure(data, Analysis)
    except (BaseValidationError, TypeError, AttributeError) as error:
        raise ValueError("these are not findings of this version") from error


def claims(data: Any) -> Analysis:
    """The findings without the levels they rest on, of which a long run has thousands of figures."""
    return read(data if isinstance(data, Analysis) else {**data, "levels": [], "little": []})


class _Nullable(GenerateJsonSchema):
    def float_schema(self, schema: core_schema.FloatSchema) -> JsonSchemaValue:
        return {"anyOf": [super().float_schema(schema), {"type": "null"}]}


def json_schema() -> dict[str, Any]:
    """JSON Schema (2020-12) of the findings."""
    return TypeAdapter(Analysis).json_schema(schema_generator=_Nullable)


Findings = Annotated[Analysis, PlainValidator(read), PlainSerializer(write), WithJsonSchema({"type": "object"})]
"""A field of a pydantic model that holds findings."""

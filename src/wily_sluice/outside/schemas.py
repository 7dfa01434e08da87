"""JSON Schemas (draft 2020-12) of the files that people write."""

from typing import Any

from pydantic import BaseModel
from pydantic.json_schema import GenerateJsonSchema, JsonSchemaValue
from pydantic_core import core_schema

from wily_sluice.forecast.lab.traffic import TrafficEntry
from wily_sluice.plan.file.schema import PlanEntry

MODELS: dict[str, type[BaseModel]] = {"plan": PlanEntry, "traffic": TrafficEntry}


class _AsWritten(GenerateJsonSchema):
    """Values parsed from text, such as rates, accept any type here: the words differ from the parsed type."""

    def function_before_schema(self, schema: core_schema.BeforeValidatorFunctionSchema) -> JsonSchemaValue:
        """Of a value that a function reads first."""
        return {}

    def default_schema(self, schema: core_schema.WithDefaultSchema) -> JsonSchemaValue:
        """Of a value with a default, which the file need not have: without the default."""
        return self.generate_inner(schema["schema"])


def json_schema(kind: str) -> dict[str, Any]:
    """The schema of `plan` or `traffic` files."""
    found = MODELS[kind].model_json_schema(by_alias=True, schema_generator=_AsWritten)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **found,
        "title": f"Wily Sluice {kind} file",
    }

"""How shapes are published: what the API gives is whole, what it takes may leave out the usual."""

from typing import Any, ClassVar

from drf_spectacular.contrib.pydantic import PydanticExtension
from drf_spectacular.drainage import set_override
from drf_spectacular.extensions import OpenApiAuthenticationExtension
from drf_spectacular.generators import SchemaGenerator
from drf_spectacular.openapi import AutoSchema
from drf_spectacular.plumbing import ResolvedComponent
from drf_spectacular.views import SpectacularAPIView
from pydantic.json_schema import GenerateJsonSchema

from ivrell.core.base.running import SCHEME, STATE
from ivrell.core.records.joined import WORKER_SCHEME

_SUFFIX = "Request"
_ANY = "Json"


class _Whole(GenerateJsonSchema):
    """Of what is given, every field is there."""

    def field_is_required(self, field: Any, total: bool) -> bool:
        return self.mode == "serialization" or super().field_is_required(field, total)


class Shapes(PydanticExtension):  # type: ignore[no-untyped-call]
    """Publishes a shape with all that stands in it; shapes of requests by names of their own."""

    priority = 1

    def get_name(self, auto_schema: AutoSchema, direction: str) -> str:
        set_override(self.target, "suppress_collision_warning", True)
        return str(self.target.__name__).removesuffix(_SUFFIX)

    def map_serializer(self, auto_schema: AutoSchema, direction: str) -> dict[str, Any]:
        asked = direction == "request"
        suffix = _SUFFIX if asked else ""
        schema: dict[str, Any] = self.target.model_json_schema(
            ref_template=f"#/components/schemas/{{model}}{suffix}",
            mode="validation" if asked else "serialization",
            schema_generator=_Whole,
        )
        for name, part in schema.pop("$defs", {}).items():
            auto_schema.registry.register_on_missing(
                ResolvedComponent(  # type: ignore[no-untyped-call]
                    name=f"{name}{suffix}",
                    type=ResolvedComponent.SCHEMA,
                    object=f"{name}{suffix}",
                    schema=part,
                )
            )
        return schema


class CommandKey(OpenApiAuthenticationExtension):  # type: ignore[no-untyped-call]
    """Publishes that the command line of the machine is let in by a key."""

    target_class = "ivrell.server.accounts.keys.KeyAuthentication"
    name = "commandKey"

    def get_security_definition(self, auto_schema: AutoSchema) -> dict[str, Any]:
        told = f"{SCHEME} and the key that {STATE} of the data folder tells."
        return {"type": "apiKey", "in": "header", "name": "Authorization", "description": told}


class PersonsToken(OpenApiAuthenticationExtension):  # type: ignore[no-untyped-call]
    """Publishes that programs are let in by tokens that people make."""

    target_class = "ivrell.server.accounts.keys.TokenAuthentication"
    name = "token"

    def get_security_definition(self, auto_schema: AutoSchema) -> dict[str, Any]:
        return {"type": "http", "scheme": "bearer"}


class WorkerToken(OpenApiAuthenticationExtension):  # type: ignore[no-untyped-call]
    """Publishes that machines that have joined are let in by their tokens."""

    target_class = "ivrell.server.jobs.workers.WorkerAuthentication"
    name = "workerToken"

    def get_security_definition(self, auto_schema: AutoSchema) -> dict[str, Any]:
        told = f"{WORKER_SCHEME} and the token that was told when the machine was added."
        return {"type": "apiKey", "in": "header", "name": "Authorization", "description": told}


def as_generators_take_it(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """The schema so that common generators of clients take it: a title is a model's name to them,
    so each is that of its component and parts have none; a value of any kind refers to itself,
    which few can follow, so it is published as any value."""
    for name, schema in result["components"]["schemas"].items():
        if name.removesuffix(_SUFFIX) == _ANY:
            schema.clear()
            schema["description"] = "Any value that JSON can hold."
        _untitled(schema)
        schema["title"] = name
    return result


def _untitled(schema: Any) -> None:
    if isinstance(schema, list):
        for part in schema:
            _untitled(part)
    elif isinstance(schema, dict):
        if isinstance(schema.get("title"), str):
            del schema["title"]
        for part in schema.values():
            _untitled(part)


class Once(SchemaGenerator):
    """Makes the schema once: it is the same as long as the server runs."""

    _made: ClassVar[dict[str, Any]] = {}

    def get_schema(self, request: Any = None, public: bool = False) -> dict[str, Any]:
        if not Once._made:
            Once._made.update(super().get_schema(None, public=True))  # type: ignore[no-untyped-call]
        return Once._made


class SchemaView(SpectacularAPIView):
    """The published schema, the same for everybody who may see it."""

    generator_class = Once

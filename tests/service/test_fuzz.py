"""The OpenAPI description, fuzzed: no call ends in an internal error, and each answer is what it promises."""

from __future__ import annotations

import schemathesis
from hypothesis import HealthCheck, given, settings
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import content_type_conformance, response_schema_conformance

from portero.service.app import create_app
from portero.service.keepers import open_keepers
from serving import TOKEN, let_in
from thorough import times

SKIPPED = ("stream", "signIn", "signOut")
"""A stream never ends; signing in is slow on purpose and slows down who guesses."""


CHECKS = [not_a_server_error, response_schema_conformance, content_type_conformance]


def _application(folder):
    keepers = open_keepers(folder)
    let_in(keepers)
    return create_app(keepers)


def _cases(operation) -> None:
    """Send the operation what its description allows, and what it does not."""

    @settings(max_examples=times(5, 25), suppress_health_check=list(HealthCheck))
    @given(case=operation.as_strategy())
    def fuzz(case):
        response = case.call(headers={"Authorization": f"Bearer {TOKEN}"})
        case.validate_response(response, checks=CHECKS)

    fuzz()


def test_every_operation_answers_as_described(tmp_path):
    schema = schemathesis.openapi.from_asgi("/api/v1/openapi.json", _application(tmp_path))
    operations = [result.ok() for result in schema.get_all_operations()]
    tried = [operation for operation in operations if operation.definition.raw["operationId"] not in SKIPPED]
    for operation in tried:
        _cases(operation)
    assert len(tried) > 25


def test_every_number_in_an_address_has_a_bound(tmp_path):
    paths = _application(tmp_path).openapi()["paths"]
    numbers = [
        (path, parameter["name"], kind)
        for path, operations in paths.items()
        for operation in operations.values()
        for parameter in operation.get("parameters", [])
        for kind in (parameter["schema"], *parameter["schema"].get("anyOf", []))
        if kind.get("type") == "integer"
    ]
    assert len(numbers) > 20
    assert not [one for one in numbers if "minimum" not in one[2] or "maximum" not in one[2]]

"""Text with variables."""

from __future__ import annotations

from stonekettle.plan import template


def test_variables_are_found_in_order() -> None:
    assert template.variables("/a/{{ stop }}?x={{zone}}&y={{stop}}") == ("stop", "zone", "stop")


def test_a_malformed_variable_is_found_as_it_stands() -> None:
    assert template.variables("{{9x-}}") == ("9x-",)


def test_filling_puts_values_in_place() -> None:
    fill = template.compiled("/a/{{stop}}/b/{{zone}}")
    assert fill({"stop": "Quay", "zone": "A"}) == "/a/Quay/b/A"
    assert template.compiled("plain")({}) == "plain"

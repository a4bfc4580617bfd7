"""What the API reads from every kind of request, and how it writes what is large."""

from __future__ import annotations

from typing import Any, TypeVar

import pydantic
from django.core.files.uploadedfile import UploadedFile
from django.http import HttpRequest, HttpResponse
from django.utils.datastructures import MultiValueDict
from ninja.parser import Parser

from stonekettle.plan import clean
from stonekettle.plan.problems import PlanError, Problem

Model = TypeVar("Model", bound=pydantic.BaseModel)


class CleanParser(Parser):
    """Reads bodies, addresses and forms, and refuses what could not be kept (:mod:`plan.clean`)."""

    def parse_body(self, request: HttpRequest) -> Any:
        return clean.from_json(request.body)

    def parse_querydict(
        self, data: MultiValueDict[str, Any], list_fields: list[str], request: HttpRequest
    ) -> dict[str, Any]:
        found = super().parse_querydict(data, list_fields, request)
        # A form's files come this way too; what is in them is for their readers.
        clean.checked({name: value for name, value in found.items() if not _is_file(value)})
        return found


def _is_file(value: object) -> bool:
    return isinstance(value, UploadedFile) or (isinstance(value, list) and any(map(_is_file, value)))


def written(answer: pydantic.BaseModel) -> HttpResponse:
    """An answer of our own as it is: thousands of numbers are not looked at once more."""
    return HttpResponse(answer.model_dump_json(), content_type="application/json")


def json_part(model: type[Model], text: str) -> Model:
    """A part of a form that holds JSON beside a file. Raises :class:`PlanError` with its problems."""
    try:
        return model.model_validate(clean.from_json(text))
    except pydantic.ValidationError as error:
        problems = [
            Problem(".".join(map(str, e["loc"])) or "use", f"{e['msg']}.", "Correct the value.") for e in error.errors()
        ]
        raise PlanError(problems) from error

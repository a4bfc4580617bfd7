"""What the API reads from every kind of request."""

from __future__ import annotations

from typing import TypeVar

import pydantic
from django.contrib.auth.models import User
from django.http import HttpRequest

from stonekettle.plan.problems import PlanError, Problem

Model = TypeVar("Model", bound=pydantic.BaseModel)


def user_of(request: HttpRequest) -> User | None:
    """Who is signed in."""
    return request.user if request.user.is_authenticated else None


def json_part(model: type[Model], text: str) -> Model:
    """A part of a form that holds JSON beside a file. Raises :class:`PlanError` with its problems."""
    try:
        return model.model_validate_json(text)
    except pydantic.ValidationError as error:
        problems = [
            Problem(".".join(map(str, e["loc"])) or "use", f"{e['msg']}.", "Correct the value.") for e in error.errors()
        ]
        raise PlanError(problems) from error

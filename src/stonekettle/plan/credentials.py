"""How one signs in with HTTP itself."""

from __future__ import annotations

from base64 import b64encode

from pydantic import Field, model_validator
from pydantic_core import PydanticCustomError

from stonekettle.plan.parts import Part


class Credentials(Part):
    """A bearer token, or a user with a password."""

    bearer: str | None = Field(default=None, min_length=1)
    user: str | None = Field(default=None, min_length=1)
    password: str | None = None

    @model_validator(mode="after")
    def _one_way(self) -> Credentials:
        if (self.bearer is None) == (self.user is None):
            raise PydanticCustomError(
                "credentials",
                "credentials need either bearer or user with password.",
                {"mend": "Give one of the two."},
            )
        return self

    @property
    def headers(self) -> dict[str, str]:
        """The header that carries them."""
        if self.bearer is not None:
            return {"Authorization": f"Bearer {self.bearer}"}
        pair = b64encode(f"{self.user}:{self.password or ''}".encode()).decode()
        return {"Authorization": f"Basic {pair}"}

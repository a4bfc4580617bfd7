"""The front end's types are those of the API."""

from __future__ import annotations

import json
from pathlib import Path

from stonekettle.server.api import api

SCHEMA = Path(__file__).parents[2] / "web" / "src" / "api" / "schema.json"


def test_the_committed_description_is_current() -> None:
    now = json.loads(json.dumps(api.get_openapi_schema(), default=str))
    assert json.loads(SCHEMA.read_text()) == now, "run ./kettle api"

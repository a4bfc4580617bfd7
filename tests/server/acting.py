"""Who acts in the tests of the server."""

from __future__ import annotations

from stonekettle.server.access.roles import Actor

TESTS = Actor.itself("the tests")

"""Seal everything with the newest key, which stands first in the key file."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand

from stonekettle.server.sealed import seal_anew


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        self.stdout.write(f"{seal_anew()} values are sealed with the newest key.")

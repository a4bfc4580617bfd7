"""Imported by the process that jobs are forked from: everything they need, loaded once."""

import os

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "stonekettle.server.settings")
django.setup()

from django.utils.module_loading import import_string  # noqa: E402

from stonekettle.server.jobs.work import KINDS  # noqa: E402

for kind in KINDS.values():
    import_string(kind)

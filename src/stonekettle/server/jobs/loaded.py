"""Imported by the process that jobs are forked from: everything they need, loaded once."""

import gc
import os
from importlib import import_module

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "stonekettle.server.settings")
django.setup()

from django.utils.module_loading import import_string  # noqa: E402

from stonekettle.server.jobs.work import KINDS  # noqa: E402

for kind in KINDS.values():
    import_string(kind)
# The core asks for it where it is used, since not every process needs it: half a second of every job that analyses.
import_module("scipy.optimize")
# What is there now stays: no job looks through it for garbage, nor makes a copy of its pages by looking.
gc.collect()
gc.freeze()

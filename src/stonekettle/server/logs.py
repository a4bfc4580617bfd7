"""What goes into the logs: lines with a time, their secrets masked."""

from __future__ import annotations

import logging

from stonekettle.plan.secrecy import hidden


class MaskingFormatter(logging.Formatter):
    """The whole line at last, traces of errors included, without what its names tell to be secret."""

    def format(self, record: logging.LogRecord) -> str:
        return hidden(super().format(record))

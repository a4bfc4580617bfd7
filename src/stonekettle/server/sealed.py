"""Columns that are encrypted at rest: documents, what they ran as, and recordings may all hold secrets.

Values are compressed and sealed with Fernet (AES-128-CBC with HMAC-SHA-256). The keys stand one a line in
a file beside the data, the newest first: it seals, all of them open. Every process looks at the file again
once it has changed, so that keys can be changed while everything runs.
"""

from __future__ import annotations

import json
import zlib
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from cryptography.fernet import Fernet, InvalidToken, MultiFernet
from django.apps import apps
from django.conf import settings
from django.core.exceptions import ImproperlyConfigured
from django.db import connection, migrations, models, transaction

BATCH = 100


@lru_cache(maxsize=4)
def _fernet(path: Path) -> MultiFernet:
    """The keys of a file; it does not change while anything runs."""
    try:
        return MultiFernet([Fernet(line) for line in path.read_text().split()])
    except (OSError, ValueError) as error:
        message = f"The keys of the sealed data cannot be read at {path}: {error}. Put the file back."
        raise ImproperlyConfigured(message) from error


if TYPE_CHECKING:
    _BinaryField = models.BinaryField[Any, Any]
else:
    _BinaryField = models.BinaryField


class SealedField(_BinaryField):
    """Bytes that are sealed; subclasses say how values become bytes and back."""

    @staticmethod
    def packed(value: Any) -> bytes:
        raise NotImplementedError

    @staticmethod
    def unpacked(data: bytes) -> Any:
        raise NotImplementedError

    def get_prep_value(self, value: Any) -> Any:
        return None if value is None else _fernet(settings.KEY_FILE).encrypt(zlib.compress(self.packed(value), 6))

    def from_db_value(self, value: Any, expression: object, connection: object) -> Any:
        if value is None:
            return None
        try:
            return self.unpacked(zlib.decompress(_fernet(settings.KEY_FILE).decrypt(bytes(value))))
        except InvalidToken as error:
            message = f"A sealed {self.name} opens with none of the keys in {settings.KEY_FILE}."
            raise ImproperlyConfigured(f"{message} Put back the file that was there when it was saved.") from error


class SealedJSONField(SealedField):
    """Plain data."""

    @staticmethod
    def packed(value: Any) -> bytes:
        return json.dumps(value, ensure_ascii=False).encode()

    @staticmethod
    def unpacked(data: bytes) -> Any:
        return json.loads(data)


class SealedTextField(SealedField):
    """Text."""

    @staticmethod
    def packed(value: str) -> bytes:
        return value.encode()

    @staticmethod
    def unpacked(data: bytes) -> str:
        return data.decode()


def seal_anew() -> int:
    """Seal every value with the newest key; how many."""
    count = 0
    for model in apps.get_models():
        names = [field.name for field in model._meta.local_concrete_fields if isinstance(field, SealedField)]
        if not names:
            continue
        rows = list(model._default_manager.order_by("pk").values_list("pk", flat=True))
        for start in range(0, len(rows), BATCH):
            with transaction.atomic():
                batch = model._default_manager.select_for_update().filter(pk__in=rows[start : start + BATCH])
                for pk, *values in batch.values_list("pk", *names):
                    model._default_manager.filter(pk=pk).update(**dict(zip(names, values, strict=True)))
                    count += len(names)
    return count


def sealing(app: str, model: str, name: str, field: SealedField, read: Callable[[Any], Any]) -> list[Any]:
    """The operations of a migration that seal a column; ``read`` makes its value of what stands there."""

    def copy(registry: Any, editor: object) -> None:
        rows = registry.get_model(app, model).objects
        for pk, value in rows.values_list("pk", name).iterator(chunk_size=BATCH):
            rows.filter(pk=pk).update(**{f"sealed_{name}": read(value)})

    empty = field.clone()
    empty.null = True
    return [
        migrations.AddField(model, f"sealed_{name}", empty),
        migrations.RunPython(copy, migrations.RunPython.noop),
        migrations.RemoveField(model, name),
        migrations.RenameField(model, f"sealed_{name}", name),
        migrations.AlterField(model, name, field),
    ]


def sweeping(table: str) -> migrations.RunPython:
    """Write a table anew, so that nothing of a removed column stays in its pages. Not within a transaction."""

    def sweep(registry: Any, editor: object) -> None:
        with connection.cursor() as cursor:
            cursor.execute(f"VACUUM FULL {connection.ops.quote_name(table)}")

    return migrations.RunPython(sweep, migrations.RunPython.noop)

"""The bytes of a file handed in lie under their digest, as an object store and several hosts need it."""

import contextlib
from pathlib import Path

from django.conf import settings
from django.db import migrations


def rename(apps, schema_editor):  # type: ignore[no-untyped-def]
    folder = Path(settings.DATA_FOLDER) / "uploads"
    for upload in apps.get_model("streams", "Upload").objects.all():
        with contextlib.suppress(FileNotFoundError):
            (folder / f"{upload.pk}.bin").rename(folder / f"{upload.sha}.bin")


class Migration(migrations.Migration):
    dependencies = [("streams", "0007_kept_look")]
    operations = [migrations.RunPython(rename, migrations.RunPython.noop)]

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models

KINDS = [(k, k) for k in ("samples", "counter", "derived", "source", "retired")]


def keep_titles(apps, schema_editor):
    """Streams keep the titles they had, their attributes in a row; those with arrivals were pushed or fetched."""
    stream = apps.get_model("streams", "Stream")
    rows = []
    for row in stream.objects.only("pk", "attributes", "arrivals", "kind").iterator(chunk_size=2_000):
        row.title_own = " · ".join(str(value) for _, value in row.attributes)[:500]
        row.is_sent = bool(row.arrivals) and row.kind == "samples"
        rows.append(row)
    stream.objects.bulk_update(rows, ["title_own", "is_sent"], batch_size=500)


class Migration(migrations.Migration):
    dependencies = [
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
        ("streams", "0002_live_intake"),
    ]

    operations = [
        migrations.AddField("stream", "cadence", models.CharField(blank=True, default="", max_length=40)),
        migrations.AddField("stream", "cadence_of", models.BigIntegerField(default=0)),
        migrations.AddField("stream", "title_own", models.CharField(blank=True, default="", max_length=500)),
        migrations.AddField(
            "stream",
            "joins_sha",
            models.CharField(blank=True, db_collation="utf8mb4_bin", db_index=True, default="", max_length=64),
        ),
        migrations.AddField("stream", "is_sent", models.BooleanField(default=False)),
        migrations.AddField("stream", "is_additive", models.BooleanField(default=False)),
        migrations.AddField("stream", "join", models.CharField(default="auto", max_length=8)),
        migrations.AlterField(
            "stream", "kind", models.CharField(choices=KINDS, default="samples", max_length=10)
        ),
        migrations.CreateModel(
            "IdentityVersion",
            [
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("rules", models.JSONField()),
                ("moved", models.IntegerField(default=0)),
                ("created_at", models.DateTimeField(auto_now_add=True)),
                ("undone_at", models.DateTimeField(null=True)),
                (
                    "created_by",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.SET_NULL, to=settings.AUTH_USER_MODEL
                    ),
                ),
                (
                    "undone_by",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
            ],
            options={"db_table": "identity_version"},
        ),
        migrations.RunPython(keep_titles, migrations.RunPython.noop),
    ]

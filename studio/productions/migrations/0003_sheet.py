"""Roles in productions, order and putting away on the sheet, and the states that edits of a take went through."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models
from django.utils import timezone

SHEET = {
    "description": models.TextField(blank=True, default="", max_length=4000),
    "position": models.PositiveIntegerField(default=0),
    "archived": models.DateTimeField(blank=True, null=True),
    "removed": models.DateTimeField(blank=True, null=True),
}


def begin_their_week(apps, _schema):
    """What was taken off while its files stayed for good can be taken back for a week from now on."""
    apps.get_model("productions", "Take").objects.exclude(removed=None).update(removed=timezone.now())


class Migration(migrations.Migration):
    dependencies = [
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
        ("productions", "0002_removed"),
    ]

    operations = [
        # the table that joined people to productions gets a role; who was in it owned all
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.CreateModel(
                    name="Membership",
                    fields=[
                        ("id", models.BigAutoField(primary_key=True, serialize=False, auto_created=True, verbose_name="ID")),
                        (
                            "production",
                            models.ForeignKey(
                                on_delete=django.db.models.deletion.CASCADE,
                                related_name="memberships",
                                to="productions.production",
                            ),
                        ),
                        (
                            "user",
                            models.ForeignKey(
                                on_delete=django.db.models.deletion.CASCADE,
                                related_name="memberships",
                                to=settings.AUTH_USER_MODEL,
                            ),
                        ),
                    ],
                    options={"db_table": "productions_production_members"},
                ),
                migrations.AlterField(
                    model_name="production",
                    name="members",
                    field=models.ManyToManyField(
                        related_name="productions", through="productions.Membership", to=settings.AUTH_USER_MODEL
                    ),
                ),
            ],
        ),
        migrations.AlterModelTable(name="membership", table=None),
        migrations.AddField(
            model_name="membership",
            name="role",
            field=models.PositiveSmallIntegerField(
                choices=[(1, "viewer"), (2, "editor"), (3, "owner")], default=3
            ),
        ),
        migrations.AlterField(
            model_name="membership",
            name="role",
            field=models.PositiveSmallIntegerField(
                choices=[(1, "viewer"), (2, "editor"), (3, "owner")], default=2
            ),
        ),
        migrations.AddConstraint(
            model_name="membership",
            constraint=models.UniqueConstraint(fields=("production", "user"), name="one_part_a_person"),
        ),
        migrations.AlterField(
            model_name="production", name="name", field=models.CharField(max_length=120)
        ),
        migrations.RemoveConstraint(model_name="shot", name="one_shot_of_a_name"),
        *[
            migrations.AddField(model_name=model, name=name, field=field.clone())
            for model in ("production", "shot", "take")
            for name, field in SHEET.items()
            if (model, name) != ("take", "removed")
        ],
        *[
            migrations.AlterModelOptions(name=model, options={"ordering": ("position", "pk")})
            for model in ("production", "shot", "take")
        ],
        migrations.AddField(model_name="shot", name="unit", field=models.CharField(default="m", max_length=4)),
        migrations.AddField(model_name="shot", name="up", field=models.CharField(default="y", max_length=1)),
        migrations.AddField(model_name="take", name="step", field=models.PositiveIntegerField(default=0)),
        migrations.CreateModel(
            name="State",
            fields=[
                ("id", models.BigAutoField(primary_key=True, serialize=False, auto_created=True, verbose_name="ID")),
                ("step", models.PositiveIntegerField()),
                ("scene", models.JSONField()),
                (
                    "by",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.SET_NULL, to=settings.AUTH_USER_MODEL
                    ),
                ),
                (
                    "take",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="states", to="productions.take"
                    ),
                ),
            ],
        ),
        migrations.AddConstraint(
            model_name="state",
            constraint=models.UniqueConstraint(fields=("take", "step"), name="one_state_a_step"),
        ),
        migrations.RunPython(begin_their_week, migrations.RunPython.noop),
    ]

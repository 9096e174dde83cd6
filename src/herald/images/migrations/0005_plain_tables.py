"""Tables by the names of the code."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("images", "0004_signed_leave")]

    operations = [
        migrations.RenameModel("Cleaning", "ImageCleanup"),
        migrations.RenameModel("ReleaseOnArrival", "AutoApproval"),
        migrations.AlterField(
            "imagecleanup", "images", models.ManyToManyField(related_name="cleanups", to="images.image")
        ),
    ]

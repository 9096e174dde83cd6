"""Tables by the names of the code."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("imports", "0006_plain_words")]

    operations = [
        migrations.RenameModel("KeptMapping", "SavedMapping"),
        migrations.RenameModel("WrongCell", "CellError"),
    ]

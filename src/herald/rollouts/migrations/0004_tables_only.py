from django.db import migrations


class Migration(migrations.Migration):

    dependencies = [
        ('rollouts', '0003_images_into_tables'),
    ]

    operations = [
        migrations.RemoveField(
            model_name='rollout',
            name='image',
        ),
    ]

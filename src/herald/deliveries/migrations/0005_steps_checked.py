from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('deliveries', '0004_steps_filled'),
    ]

    operations = [
        migrations.AddConstraint(
            model_name='delivery',
            constraint=models.UniqueConstraint(condition=models.Q(('current', True)), fields=('rollout', 'device'), name='delivery_once_per_rollout'),
        ),
        migrations.AddConstraint(
            model_name='delivery',
            constraint=models.UniqueConstraint(fields=('rollout', 'device', 'hop'), name='delivery_once_per_hop'),
        ),
        migrations.AddConstraint(
            model_name='delivery',
            constraint=models.CheckConstraint(condition=models.Q(models.Q(('current', True), ('hop', models.F('hops'))), models.Q(('current', True), models.Q(('phase', 'confirmed'), _negated=True)), models.Q(('current', False), ('phase', 'confirmed')), _connector='OR'), name='delivery_steps_follow'),
        ),
        migrations.AddConstraint(
            model_name='delivery',
            constraint=models.CheckConstraint(condition=models.Q(('hop__gte', 1), ('hop__lte', models.F('hops'))), name='delivery_hop_within'),
        ),
        migrations.AddConstraint(
            model_name='delivery',
            constraint=models.CheckConstraint(condition=models.Q(models.Q(('image__isnull', False), ('kind', 'install'), ('occurrence__isnull', True), ('ring__isnull', False), ('rollout__isnull', False), ('target__isnull', False)), models.Q(('image__isnull', True), ('kind', 'command'), ('occurrence__isnull', False), ('rollout__isnull', True)), _connector='OR'), name='delivery_belongs'),
        ),
    ]

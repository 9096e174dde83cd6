"""The group of a membership is checked once a statement: its size row refers to it, and a group with members stays."""

import django.db.models.deletion
from django.db import migrations, models


HOLD = """
CREATE FUNCTION herald_group_has_members() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF EXISTS (SELECT 1 FROM groups_groupmembership WHERE group_id = OLD.id) THEN
        RAISE foreign_key_violation USING MESSAGE = format('group %s still has members', OLD.id);
    END IF;
    RETURN OLD;
END $$;
CREATE TRIGGER group_has_members BEFORE DELETE ON groups_group
    FOR EACH ROW EXECUTE FUNCTION herald_group_has_members();
"""
LOOSE = "DROP TRIGGER group_has_members ON groups_group; DROP FUNCTION herald_group_has_members();"


class Migration(migrations.Migration):

    dependencies = [
        ('fleet', '0006_facts_since'),
        ('groups', '0004_group_size'),
    ]

    operations = [
        migrations.AlterField(
            model_name='groupmembership',
            name='group',
            field=models.ForeignKey(db_constraint=False, db_index=False, on_delete=django.db.models.deletion.CASCADE, related_name='memberships', to='groups.group'),
        ),
        migrations.AlterField(
            model_name='membershipevent',
            name='device',
            field=models.ForeignKey(db_constraint=False, on_delete=django.db.models.deletion.CASCADE, to='fleet.device'),
        ),
        migrations.AlterField(
            model_name='membershipevent',
            name='group',
            field=models.ForeignKey(db_constraint=False, db_index=False, on_delete=django.db.models.deletion.CASCADE, to='groups.group'),
        ),
        migrations.RunSQL(HOLD, LOOSE),
    ]

"""How many members each group has, kept by the database itself: counting millions of rows for a list takes seconds."""

import django.db.models.deletion
from django.db import migrations, models

KEEP = """
CREATE FUNCTION herald_members_joined() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO groups_groupsize (group_id, members)
    SELECT group_id, count(*) FROM joined GROUP BY group_id ORDER BY group_id
    ON CONFLICT (group_id) DO UPDATE SET members = groups_groupsize.members + excluded.members;
    RETURN NULL;
END $$;
CREATE FUNCTION herald_members_left() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE groups_groupsize s SET members = s.members - l.n
    FROM (SELECT group_id, count(*) AS n FROM gone GROUP BY group_id) l WHERE l.group_id = s.group_id;
    RETURN NULL;
END $$;
CREATE TRIGGER members_joined AFTER INSERT ON groups_groupmembership
    REFERENCING NEW TABLE AS joined FOR EACH STATEMENT EXECUTE FUNCTION herald_members_joined();
CREATE TRIGGER members_left AFTER DELETE ON groups_groupmembership
    REFERENCING OLD TABLE AS gone FOR EACH STATEMENT EXECUTE FUNCTION herald_members_left();
INSERT INTO groups_groupsize (group_id, members)
    SELECT group_id, count(*) FROM groups_groupmembership GROUP BY group_id;
"""
FORGET = """
DROP TRIGGER members_joined ON groups_groupmembership;
DROP TRIGGER members_left ON groups_groupmembership;
DROP FUNCTION herald_members_joined();
DROP FUNCTION herald_members_left();
"""


class Migration(migrations.Migration):
    dependencies = [("groups", "0003_only_model")]

    operations = [
        migrations.CreateModel(
            name="GroupSize",
            fields=[
                (
                    "group",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.CASCADE,
                        primary_key=True,
                        related_name="size",
                        serialize=False,
                        to="groups.group",
                    ),
                ),
                ("members", models.IntegerField()),
            ],
            options={
                "constraints": [
                    models.CheckConstraint(condition=models.Q(("members__gte", 0)), name="group_size_counts")
                ],
            },
        ),
        migrations.RunSQL(KEEP, FORGET),
    ]

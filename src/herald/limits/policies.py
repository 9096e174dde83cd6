"""What a limited person sees and changes, as policies of the database: one for every table there is.

A person is limited to folders of groups and to sites. Their devices are those at the sites and the members of the
groups in the folders, and below them. All else follows from that: a rollout or schedule is theirs where everything
that it is aimed at is; an order, an answer or an event where its device is; a tag where one of their devices has it.

The policies hold whoever is of the role `herald.db.limits.ROLE`. The owner of the tables, as which everybody else's
requests, the clock and the gateway run, passes them by. They are written after every migration, where they differ from
those that stand; a test wants one for every table.
"""

import hashlib
from collections.abc import Mapping
from typing import Any, NamedTuple

from django.db import connection, transaction

from herald.db.limits import ROLE

_POLICY = "within_limits"


class Policy(NamedTuple):
    """Which rows there are for a limited person, and what can be done with them. `adds` is what holds of a row that is
    added or changed, where that is another thing."""

    rows: str
    verbs: str = "SELECT"
    adds: str = ""


CHANGE = "SELECT, INSERT, UPDATE, DELETE"
_LISTS = "(SELECT herald_limit('{}'))::bigint[]"
_GROUPS, _SITES, _FOLDERS = (_LISTS.format(name) for name in ("groups", "sites", "folders"))
_PERSON = "(SELECT herald_limit('person'))::bigint[]"
_OF_TOKEN = "EXISTS (SELECT FROM access_apitoken t WHERE t.id = {}.token_id)"
#: a token that is limited itself opens nothing that is its owner's own
_TOKEN = _LISTS.format("token")
_IN_PERSON = f"{_TOKEN} = '{{}}'"
#: a person did it, by the token that is held to its limits where there is one
_ACTED, _ASKED = (
    f"{who} = ANY ({_PERSON}) AND ({_IN_PERSON} OR token_id = ANY ({_TOKEN}))" for who in ("actor_id", "user_id")
)
_DEVICE = "EXISTS (SELECT FROM fleet_device d WHERE d.id = device_id)"
_GROUP = f"group_id = ANY ({_GROUPS})"
_ROLLOUT = "EXISTS (SELECT FROM rollouts_rollout r WHERE r.id = rollout_id)"
_SCHEDULE = "EXISTS (SELECT FROM commands_schedule s WHERE s.id = schedule_id)"
_ABOUT = "kind IN ('rollout', 'schedule') AND herald_sees(kind, object_id)"
_ITEM = "EXISTS (SELECT FROM attention_item i WHERE i.id = record_comment.object_id)"
_COMMENTED = f"({_ABOUT}) OR (kind = 'attention' AND {_ITEM})"
#: the same for everybody, and nothing of it tells of devices
_SHARED = Policy("true")
#: what a session, a queue or a lock needs; no view shows it
_WORKINGS = Policy("true", CHANGE)
#: there is nothing in it for a limited person; adding is left where acts that they may do leave something behind
_NOTHING = Policy("false")


def _own(column: str) -> Policy:
    return Policy(f"{column} = ANY ({_PERSON}) AND {_IN_PERSON}", CHANGE)


POLICIES: Mapping[str, Policy] = {
    # -- devices, and what describes them
    "fleet_device": Policy(
        f"site_id = ANY ({_SITES}) OR EXISTS (SELECT FROM groups_groupmembership m"
        f" WHERE m.device_id = fleet_device.id AND m.group_id = ANY ({_GROUPS}))",
        "SELECT, UPDATE",
    ),
    "fleet_site": Policy(f"id = ANY ({_SITES}) OR EXISTS (SELECT FROM fleet_device d WHERE d.site_id = fleet_site.id)"),
    "fleet_custodian": Policy("EXISTS (SELECT FROM fleet_device d WHERE d.custodian_id = fleet_custodian.id)"),
    "fleet_tag": Policy("slug IN (SELECT unnest(d.tags) FROM fleet_device d)"),
    "fleet_devicemodel": _SHARED,
    "fleet_capabilityrange": _SHARED,
    "fleet_propertydefinition": _SHARED,
    "fleet_reportedfact": _SHARED,
    "fleet_enrolmentcode": _NOTHING,
    "fleet_enrolmentattempt": _NOTHING,
    "fleet_removeddevice": _NOTHING,
    "fleet_membershipqueueentry": Policy(_DEVICE, "SELECT, INSERT"),
    # -- groups
    "groups_folder": Policy(f"id = ANY ({_FOLDERS})"),
    "groups_family": Policy("EXISTS (SELECT FROM groups_group g WHERE g.family_id = groups_family.id)"),
    "groups_group": Policy(f"id = ANY ({_GROUPS})"),
    "groups_groupreference": Policy(f"referrer_id = ANY ({_GROUPS}) AND referred_id = ANY ({_GROUPS})"),
    "groups_groupmembership": Policy(_GROUP),
    "groups_groupsize": Policy(_GROUP),
    "groups_membershipevent": Policy(f"{_GROUP} AND {_DEVICE}"),
    "edits_edit": _NOTHING,
    "edits_editeddevice": _NOTHING,
    "imports_import": _NOTHING,
    "imports_importeddevice": _NOTHING,
    "imports_savedmapping": _NOTHING,
    "imports_cellerror": _NOTHING,
    # -- images
    "images_image": _SHARED,
    "images_imagemodel": _SHARED,
    "images_autoapproval": _SHARED,
    "images_signingkey": _SHARED,
    "images_upload": _NOTHING,
    "images_imagecleanup": _NOTHING,
    "images_imagecleanup_images": _NOTHING,
    # -- rollouts
    "rollouts_rollout": Policy("herald_sees_rollout(id, rolls_back_id, created_by_id)", CHANGE),
    "rollouts_rollout_include": Policy(f"{_GROUP} AND {_ROLLOUT}", CHANGE),
    "rollouts_rollout_exclude": Policy(f"{_GROUP} AND {_ROLLOUT}", CHANGE),
    "rollouts_rollout_devices": Policy(f"{_DEVICE} AND {_ROLLOUT}", CHANGE),
    "rollouts_changerow": Policy(_ROLLOUT, CHANGE),
    "rollouts_ring": Policy(_ROLLOUT, CHANGE, f"{_ROLLOUT} AND (group_id IS NULL OR {_GROUP})"),
    "rollouts_excludeddevice": Policy(f"{_ROLLOUT} AND {_DEVICE}", CHANGE),
    "rollouts_manualexclusion": Policy(f"{_ROLLOUT} AND {_DEVICE}", CHANGE),
    "rollouts_downgradepermit": Policy(_ROLLOUT, CHANGE),
    "rollouts_storedforecast": Policy(_ROLLOUT, CHANGE),
    "rollouts_keptsteps": Policy(_ROLLOUT),
    "rollouts_ringplan": Policy("herald_sees_plan(id)"),
    "rollouts_ringplanversion": Policy("herald_sees_plan(plan_id)"),
    # -- commands
    "commands_commandtemplate": _SHARED,
    "commands_templatemodel": _SHARED,
    "commands_schedule": Policy("herald_sees_schedule(id, created_by_id)", CHANGE),
    "commands_schedule_include": Policy(f"{_GROUP} AND {_SCHEDULE}", CHANGE),
    "commands_schedule_exclude": Policy(f"{_GROUP} AND {_SCHEDULE}", CHANGE),
    "commands_schedule_devices": Policy(f"{_DEVICE} AND {_SCHEDULE}", CHANGE),
    "commands_occurrence": Policy(_SCHEDULE, CHANGE),
    "commands_output": Policy(_DEVICE),
    "deliveries_delivery": Policy(_DEVICE, CHANGE),
    "deliveries_deliveryevent": Policy(
        "EXISTS (SELECT FROM deliveries_delivery y WHERE y.id = delivery_id)", "SELECT, INSERT"
    ),
    # -- when
    "calendar_freeze": Policy(
        "everywhere OR EXISTS (SELECT FROM calendar_freeze_groups f WHERE f.freeze_id = calendar_freeze.id)"
        " OR EXISTS (SELECT FROM calendar_freeze_sites f WHERE f.freeze_id = calendar_freeze.id)"
    ),
    "calendar_freeze_groups": Policy(_GROUP),
    "calendar_freeze_sites": Policy("EXISTS (SELECT FROM fleet_site s WHERE s.id = site_id)"),
    "calendar_calendarsource": _NOTHING,
    "calendar_calendarsource_groups": _NOTHING,
    "calendar_calendarsource_sites": _NOTHING,
    "lists_followedlist": _NOTHING,
    "imports_repeatedimport": _NOTHING,
    "configuration_keptbyfile": _NOTHING,
    "now_pauseofeverything": _SHARED,
    "agenda_keptcounts": _NOTHING,
    "agenda_feed": _own("owner_id"),
    "agenda_feedevent": Policy("EXISTS (SELECT FROM agenda_feed f WHERE f.id = feed_id)", CHANGE),
    "samples_reportmail": _own("owner_id"),
    # -- what is told, and kept
    "attention_item": Policy(
        "object_kind IN ('rollout', 'schedule') AND herald_sees(object_kind, object_id)", "SELECT, INSERT, UPDATE"
    ),
    "attention_quarantine": _NOTHING,
    "outages_plannedoutage": _NOTHING,
    "record_recordentry": Policy(
        f"({_ACTED}) OR {_ABOUT}",
        "SELECT, INSERT",
        _ACTED,
    ),
    "record_comment": Policy(_COMMENTED, "SELECT, INSERT", f"({_COMMENTED}) AND author_id = ANY ({_PERSON})"),
    "record_chainlink": _NOTHING,
    "record_chainwitness": _NOTHING,
    "record_chainstart": _NOTHING,
    "retention_keptkind": _SHARED,
    "retention_deletedtotal": _NOTHING,
    "samples_fleetsample": _NOTHING,
    "notifications_channel": _NOTHING,
    "notifications_notificationrule": _NOTHING,
    "notifications_notificationrule_channels": _NOTHING,
    "notifications_recipient": _NOTHING,
    "notifications_preference": _own("person_id"),
    "notifications_message": Policy(
        f"person_id = ANY ({_PERSON}) AND {_IN_PERSON}"
        " AND (item_id IS NULL OR EXISTS (SELECT FROM attention_item i WHERE i.id = item_id))",
        CHANGE,
    ),
    "notifications_attempt": _NOTHING,
    # -- people: names are known to all; what is somebody's own is theirs
    "access_user": Policy(
        "true",
        "SELECT, UPDATE (name, time_zone, password, last_login, seen_at, last_visit_ended_at)",
        f"id = ANY ({_PERSON})",
    ),
    "access_invitation": _NOTHING,
    "access_opensession": _own("user_id"),
    "access_apitoken": _own("user_id"),
    "access_failedsignin": _NOTHING,
    "access_keptanswer": Policy(_ASKED, CHANGE),
    "access_secondfactor": _own("person_id"),
    "access_recoverycode": _own("person_id"),
    "access_passkey": _own("person_id"),
    "access_wantedfactor": _SHARED,
    "access_standin": _NOTHING,
    "limits_folderlimit": Policy(f"person_id = ANY ({_PERSON})"),
    "limits_sitelimit": Policy(f"person_id = ANY ({_PERSON})"),
    "limits_tokenfolder": Policy(_OF_TOKEN.format("limits_tokenfolder"), CHANGE),
    "limits_tokensite": Policy(_OF_TOKEN.format("limits_tokensite"), CHANGE),
    "find_savedview": _own("owner_id"),
    "knox_authtoken": _own("user_id"),
    # -- workings
    "clock_timebase": _SHARED,
    "clock_lease": _SHARED,
    "clock_heartbeat": _SHARED,
    "django_session": _WORKINGS,
    "django_content_type": _SHARED,
    "django_migrations": _SHARED,
    "auth_group": _NOTHING,
    "auth_group_permissions": _NOTHING,
    "auth_permission": _NOTHING,
    "procrastinate_jobs": Policy("true", "SELECT, INSERT"),
    "procrastinate_events": Policy("true", "SELECT, INSERT"),
    "procrastinate_periodic_defers": _NOTHING,
    "procrastinate_workers": _NOTHING,
}

_DEFINER = "LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp"
#: run in this order. Those that see more than a limited person are `SECURITY DEFINER` and answer only yes or no
_FUNCTIONS = {
    # what `herald_begin_limits` left in the session; nothing of it is nobody and nothing
    "herald_limit": """CREATE FUNCTION herald_limit(what text) RETURNS bigint[] LANGUAGE sql STABLE AS $$
    SELECT coalesce(nullif(current_setting('herald.' || what, true), ''), '{}')::bigint[] $$""",
    # what is within a person's limits, and within those of a token of theirs, where there are any
    "herald_begin_limits": """CREATE FUNCTION herald_begin_limits(person bigint, by_token bigint) RETURNS void
    LANGUAGE sql AS $$
    WITH RECURSIVE held AS (
        SELECT coalesce((SELECT is_limited FROM access_user WHERE id = person), true) AS by_owner,
            by_token IS NOT NULL AS by_itself
    ), of_person AS (
        SELECT folder_id AS id FROM limits_folderlimit WHERE person_id = person
        UNION SELECT f.id FROM groups_folder f JOIN of_person ON f.parent_id = of_person.id
    ), of_token AS (
        SELECT folder_id AS id FROM limits_tokenfolder WHERE token_id = by_token
        UNION SELECT f.id FROM groups_folder f JOIN of_token ON f.parent_id = of_token.id
    ), inside AS (
        SELECT f.id FROM groups_folder f, held
        WHERE (NOT held.by_owner OR f.id IN (SELECT id FROM of_person))
            AND (NOT held.by_itself OR f.id IN (SELECT id FROM of_token))
    ), sites AS (
        SELECT s.id FROM fleet_site s, held
        WHERE (NOT held.by_owner OR s.id IN (SELECT site_id FROM limits_sitelimit WHERE person_id = person))
            AND (NOT held.by_itself OR s.id IN (SELECT site_id FROM limits_tokensite WHERE token_id = by_token))
    )
    SELECT set_config('herald.person', coalesce('{' || person || '}', ''), false),
        set_config('herald.token', coalesce('{' || by_token || '}', ''), false),
        set_config('herald.folders', coalesce((SELECT array_agg(id)::text FROM inside), ''), false),
        set_config('herald.groups', coalesce((SELECT array_agg(g.id)::text FROM groups_group g
            WHERE g.folder_id IN (SELECT id FROM inside)), ''), false),
        set_config('herald.sites', coalesce((SELECT array_agg(id)::text FROM sites), ''), false) $$""",
    "herald_reaches": f"""CREATE FUNCTION herald_reaches(device bigint) RETURNS boolean {_DEFINER} AS $$
    SELECT EXISTS (SELECT FROM fleet_device d WHERE d.id = device AND (d.site_id = ANY (herald_limit('sites'))
        OR EXISTS (SELECT FROM groups_groupmembership m
            WHERE m.device_id = d.id AND m.group_id = ANY (herald_limit('groups'))))) $$""",
    "herald_sees_rollout": f"""CREATE FUNCTION herald_sees_rollout(rollout bigint, back bigint, made_by bigint)
    RETURNS boolean {_DEFINER} AS $$
    SELECT (made_by = ANY (herald_limit('person')) OR back IS NOT NULL
            OR EXISTS (SELECT FROM rollouts_rollout_include i WHERE i.rollout_id = rollout)
            OR EXISTS (SELECT FROM rollouts_rollout_devices i WHERE i.rollout_id = rollout))
        AND NOT EXISTS (SELECT FROM rollouts_rollout_include i
            WHERE i.rollout_id = rollout AND i.group_id <> ALL (herald_limit('groups')))
        AND NOT EXISTS (SELECT FROM rollouts_rollout_exclude i
            WHERE i.rollout_id = rollout AND i.group_id <> ALL (herald_limit('groups')))
        AND NOT EXISTS (SELECT FROM rollouts_ring i
            WHERE i.rollout_id = rollout AND i.group_id <> ALL (herald_limit('groups')))
        AND NOT EXISTS (SELECT FROM rollouts_rollout_devices i
            WHERE i.rollout_id = rollout AND NOT herald_reaches(i.device_id))
        AND (back IS NULL OR EXISTS (SELECT FROM rollouts_rollout r
            WHERE r.id = back AND herald_sees_rollout(r.id, r.rolls_back_id, r.created_by_id))) $$""",
    # a plan is everybody's, but for one with rings of groups that are not theirs
    "herald_sees_plan": f"""CREATE FUNCTION herald_sees_plan(plan bigint) RETURNS boolean {_DEFINER} AS $$
    SELECT NOT EXISTS (SELECT FROM rollouts_ringplanversion v, jsonb_array_elements(v.rings) AS ring
        WHERE v.plan_id = plan AND (ring ->> 'group_id')::bigint <> ALL (herald_limit('groups'))) $$""",
    "herald_sees_schedule": f"""CREATE FUNCTION herald_sees_schedule(schedule bigint, made_by bigint)
    RETURNS boolean {_DEFINER} AS $$
    SELECT (made_by = ANY (herald_limit('person'))
            OR EXISTS (SELECT FROM commands_schedule_include i WHERE i.schedule_id = schedule)
            OR EXISTS (SELECT FROM commands_schedule_devices i WHERE i.schedule_id = schedule))
        AND NOT EXISTS (SELECT FROM commands_schedule_include i
            WHERE i.schedule_id = schedule AND i.group_id <> ALL (herald_limit('groups')))
        AND NOT EXISTS (SELECT FROM commands_schedule_exclude i
            WHERE i.schedule_id = schedule AND i.group_id <> ALL (herald_limit('groups')))
        AND NOT EXISTS (SELECT FROM commands_schedule_devices i
            WHERE i.schedule_id = schedule AND NOT herald_reaches(i.device_id)) $$""",
    "herald_sees": f"""CREATE FUNCTION herald_sees(kind text, object bigint) RETURNS boolean {_DEFINER} AS $$
    SELECT CASE kind
        WHEN 'rollout' THEN EXISTS (SELECT FROM rollouts_rollout r
            WHERE r.id = object AND herald_sees_rollout(r.id, r.rolls_back_id, r.created_by_id))
        WHEN 'schedule' THEN EXISTS (SELECT FROM commands_schedule s
            WHERE s.id = object AND herald_sees_schedule(s.id, s.created_by_id))
        ELSE false END $$""",
}
_ROLE_EXISTS = f"""DO $$ BEGIN
    IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = '{ROLE}') THEN
        CREATE ROLE {ROLE} NOLOGIN;
    END IF;
    IF NOT pg_has_role(current_user, '{ROLE}', 'MEMBER') THEN
        GRANT {ROLE} TO CURRENT_USER;
    END IF;
EXCEPTION WHEN duplicate_object OR unique_violation THEN NULL;  -- another installation made it meanwhile
END $$"""


def write_policies(**_: Any) -> None:
    """Let the policies of the database be those of this version. Does nothing where they are."""
    if not set(POLICIES) <= set(connection.introspection.table_names()):
        return  # an older version of the tables, on its way to this one or back
    digest = hashlib.sha256(repr((sorted(POLICIES.items()), _FUNCTIONS)).encode()).hexdigest()
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute(_ROLE_EXISTS)
        cursor.execute(
            "SELECT obj_description('access_user'::regclass), has_table_privilege(%s, 'access_user', 'SELECT')", [ROLE]
        )
        if cursor.fetchone() == (digest, True):
            return
        for table in sorted(POLICIES):
            cursor.execute(f"DROP POLICY IF EXISTS {_POLICY} ON {table}")
        cursor.execute("SET LOCAL check_function_bodies = off")  # one calls itself
        for name, function in _FUNCTIONS.items():
            cursor.execute(f"DROP FUNCTION IF EXISTS {name}")  # another version's may have other parameters
            cursor.execute(function)
        cursor.execute(f"GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO {ROLE}")
        for table, policy in sorted(POLICIES.items()):
            adds = policy.adds or policy.rows
            cursor.execute(f"ALTER TABLE {table} ENABLE ROW LEVEL SECURITY")
            cursor.execute(f"CREATE POLICY {_POLICY} ON {table} USING ({policy.rows}) WITH CHECK ({adds})")
            cursor.execute(f"REVOKE ALL ON {table} FROM {ROLE}")
            cursor.execute(f"GRANT {policy.verbs} ON {table} TO {ROLE}")
        cursor.execute(f"COMMENT ON TABLE access_user IS '{digest}'")

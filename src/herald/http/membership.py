"""Which calls can change who is in which group. The mark stands in the OpenAPI document as `x-membership`, and a test
calls every one of them.

`gated` calls show their consequences and take what was agreed to (`groups.consequences`); `none` change no membership.
"""

from collections.abc import Mapping

GATED = "gated"
NONE = "none"

#: by operation: what a gated call changes
GATED_CALLS: Mapping[str, str] = {
    "groups_change": "its rule or name, and the groups whose rules name it",
    "groups_change_members": "members added, removed or moved by hand, from a selection or a file",
    "groups_convert_to_static": "a rule-based group that keeps its members of now",
    "groups_convert_to_rule": "a static group that follows a rule",
    "groups_list_follow": "a static group that follows a list kept elsewhere, from now on or another one",
    "groups_list_read": "the same, as its list is read again",
    "edits_create": "tags, attributes, site, custodian, name and admission of one device or many; retiring",
    "edits_undo": "the same, undone",
    "tags_rename": "a tag renamed or merged, on devices and in rules",
    "tags_delete": "a tag taken off devices",
    "attributes_change": "an attribute whose values take another type",
    "facts_change": "a fact that is read as another type",
    "sites_change": "a site’s name, region or time zone, with its devices and the rules that name it",
    "models_change": "a model’s name or family, likewise",
    "custodians_change": "a custodian’s name or tags, likewise",
    "capabilities_set": "what a model’s firmware can do, and with it whom a command reaches",
    "imports_accept": "devices made and changed from a file",
    "imports_undo": "the same, undone",
    "configuration_apply": "groups, attributes, sites and all else that is kept as files, as one act",
    "devices_add": "one device made known by hand",
    "devices_replace": "a device that takes the place, groups and admission of another",
}

#: calls that change no membership; a group that is made has members, and nothing can follow it yet. What is removed for
#: good is retired, and nothing reaches it
FREE_CALLS = frozenset(
    """
    admissions_dismiss admissions_let_in_again approval_policies_set attention_acknowledge attention_assign
    attention_comment attention_snooze attributes_create attributes_delete attributes_incompatible_values
    calendar_feeds_create calendar_feeds_revoke calendar_move calendar_move_preview calendar_sources_change
    calendar_sources_change_preview calendar_sources_create calendar_sources_delete calendar_sources_preview
    calendar_sources_read capabilities_preview channels_change channels_create channels_delete channels_test
    codes_create codes_revoke command_templates_change command_templates_create command_templates_delete
    configuration_compare custodians_create custodians_delete custodians_preview devices_issue_secret devices_remove
    devices_replace_preview devices_request_report devices_request_reports devices_revoke_secret devices_stop_live
    devices_upcoming devices_watch_live edits_preview folders_change folders_create folders_delete freezes_change
    freezes_create freezes_delete groups_create groups_delete groups_list_preview groups_list_stop
    image_cleanups_create image_cleanups_undo images_approve images_create images_withdraw import_mappings_delete
    imports_cancel imports_create imports_map imports_save_mapping keys_revoke keys_rotate models_create models_delete
    models_preview notifications_change notifications_create notifications_delete outages_create outages_end own_change
    own_messages_read own_passkeys_add own_passkeys_options own_passkeys_remove own_password own_preference_set
    own_recovery_codes own_second_factor_begin own_second_factor_confirm own_second_factor_take_off own_session_end
    own_sessions_end_others own_stand_in own_stand_in_end own_test_message pause_everything pause_resume people_change
    people_disable people_enable people_invite people_limit people_limits_preview people_new_link people_remove
    people_reset_second_factor people_revoke_invitation people_want_second_factor quarantine_try
    repeated_imports_change repeated_imports_create repeated_imports_delete repeated_imports_read report_mails_create
    report_mails_delete report_mails_send retention_set ring_plans_delete ring_plans_save rollouts_approve_gate
    rollouts_approve_override rollouts_change rollouts_comment rollouts_create rollouts_delete rollouts_edit_open
    rollouts_edit_open_preview rollouts_exclude rollouts_expedite rollouts_extend rollouts_extend_preview rollouts_hold
    rollouts_hold_preview rollouts_include rollouts_launch rollouts_open_gate rollouts_order rollouts_pause
    rollouts_preflight rollouts_release rollouts_resume rollouts_retry rollouts_rings_ahead
    rollouts_rings_ahead_preview rollouts_roll_back rollouts_sentence rollouts_skip rollouts_stop
    rollouts_suggest_hours rollouts_usual_hours rollouts_words rules_compare rules_explain rules_preview rules_sieve
    saved_views_delete saved_views_save schedules_approve schedules_change schedules_change_preview schedules_comment
    schedules_create schedules_end schedules_group_answers schedules_pause schedules_preview schedules_resume
    schedules_run schedules_sentence schedules_skip session_passkey session_passkey_options session_sign_in
    session_sign_out sites_create sites_delete sites_preview tags_describe tags_rename_preview tokens_create
    tokens_revoke uploads_append uploads_create uploads_delete welcome_accept welcome_passkey_options
    """.split()  # noqa: SIM905  a hundred names read better so
)


def mark_of(operation: str) -> str | None:
    """The mark of a call that writes; None where nobody has said what it does to groups."""
    if operation in GATED_CALLS:
        return GATED
    return NONE if operation in FREE_CALLS else None

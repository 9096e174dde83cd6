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
    "groups_make_static": "a rule-based group that keeps its members of now",
    "groups_make_by_rule": "a static group that follows a rule",
    "edits_create": "tags, attributes, site, custodian, name and admission of one device or many; retiring",
    "edits_undo": "the same, put back",
    "tags_rename": "a tag renamed or merged, on devices and in rules",
    "tags_delete": "a tag taken off devices",
    "attributes_change": "an attribute whose values take another type",
    "facts_change": "a fact that is read as another type",
    "sites_change": "a site’s name, region or time zone, with its devices and the rules that name it",
    "models_change": "a model’s name or family, likewise",
    "custodians_change": "a custodian’s name or tags, likewise",
    "functions_set": "what a model’s firmware can do, and with it whom a command reaches",
    "imports_accept": "devices made and changed from a file",
    "imports_undo": "the same, put back",
    "devices_add": "one device made known by hand",
    "devices_replace": "a device that takes the place, groups and admission of another",
}

#: calls that change no membership; a group that is made has members, and nothing can follow it yet. What is removed for
#: good is retired, and nothing reaches it
FREE_CALLS = frozenset(
    """
    admissions_dismiss admissions_let_in_again
    attributes_create attributes_delete attributes_misfits cleanings_create cleanings_undo codes_create codes_revoke
    custodians_create custodians_delete custodians_preview devices_ask_to_report
    devices_ask_all_to_report devices_issue_secret devices_upcoming devices_remove
    devices_replace_preview devices_revoke_secret edits_preview folders_change
    folders_create folders_delete freezes_change freezes_create freezes_delete functions_preview
    groups_create groups_delete images_approve images_create images_withdraw import_mappings_delete imports_cancel
    imports_create imports_keep_mapping imports_map keys_revoke keys_rotate models_create models_delete models_preview
    plans_drop plans_keep quarantine_try releases_set rollouts_ahead_preview rollouts_approve_gate rollouts_change
    rollouts_approve_override
    rollouts_change_ahead rollouts_create rollouts_delete rollouts_extend rollouts_extend_preview rollouts_hold
    rollouts_hold_preview rollouts_launch rollouts_open_gate rollouts_pause rollouts_preflight rollouts_push
    rollouts_put_back rollouts_rank rollouts_release rollouts_resume rollouts_retry rollouts_skip rollouts_stop
    rollouts_take_back_in rollouts_take_out rules_compare rules_explain rules_preview rules_sieve schedules_create
    schedules_end schedules_pause schedules_preview schedules_resume schedules_run session_sign_in session_sign_out
    sites_create sites_delete sites_preview tags_describe tags_rename_preview tokens_create tokens_revoke uploads_append
    uploads_create uploads_delete views_forget views_keep
    """.split()  # noqa: SIM905  a hundred names read better so
)


def mark_of(operation: str) -> str | None:
    """The mark of a call that writes; None where nobody has said what it does to groups."""
    if operation in GATED_CALLS:
        return GATED
    return NONE if operation in FREE_CALLS else None
